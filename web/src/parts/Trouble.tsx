import { Problem } from "../api/client";
import { Button } from "./Button";

/**
 * Trouble shows why something was not done, in the service's words, and what to do. With onClose it floats above the page, for
 * places without room for it.
 */
export function Trouble({ error, onClose }: { error: unknown; onClose?: () => void }) {
  if (!error) return null;
  if (onClose) {
    return (
      <div className="fixed right-4 bottom-4 z-30 flex max-w-[min(34rem,calc(100vw-2rem))] items-start gap-2 rounded-lg border border-line bg-bank p-2 text-left shadow-2xl">
        <Trouble error={error} />
        <Button kind="quiet" onClick={onClose}>Close</Button>
      </div>
    );
  }
  const d = error instanceof Problem ? error.details : undefined;
  const reasons = d?.refusals?.length ? d.refusals : [{ message: d?.detail ?? String(error), remedy: d?.remedy ?? "" }];
  return (
    <div role="alert" className="border-l-3 border-rust bg-bank px-3 py-2 text-sm">
      {reasons.map((r) => (
        <p key={r.message}>
          <span className="text-rust">{sentence(r.message)}</span> {r.remedy && <span className="text-peat">{sentence(r.remedy)}</span>}
        </p>
      ))}
    </div>
  );
}

function sentence(text: string) {
  const s = text.charAt(0).toUpperCase() + text.slice(1);
  return /[.!?]$/.test(s) ? s : `${s}.`;
}
