import { Button } from "../../parts/Button";
import { When } from "../../parts/words";

/** WayIn is one way in that can be taken away, and when it was last used. */
export function WayIn({ name, used, busy, onTake }: { name: string; used: string | null | undefined; busy: boolean; onTake: () => void }) {
  return (
    <li className="flex items-center gap-4 border-b border-line py-1.5">
      <span className="min-w-0 flex-1 wrap-anywhere">
        {name}
        <span className="block text-peat">
          {used ? (
            <>
              last used <When at={used} />
            </>
          ) : (
            "never used"
          )}
        </span>
      </span>
      <Button kind="quiet" aria-label={`Take away ${name}`} disabled={busy} onClick={onTake}>
        Take away
      </Button>
    </li>
  );
}
