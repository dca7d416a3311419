import { Toast } from "radix-ui";
import type { Item } from "../api/news";
import { Button } from "./Button";
import { plainly } from "./Trouble";

/** Told is what happened just now and concerns the one who looks: their turn, asks, answers, what was taken from them. */
export function Told({ items, onClose }: { items: Item[]; onClose: (id: string) => void }) {
  return (
    <Toast.Provider duration={20_000} label="News">
      {items.map((i) => (
        <Toast.Root
          key={i.id}
          onOpenChange={(open) => !open && onClose(i.id)}
          className="border-l-3 border-copper bg-bank px-4 py-3 shadow-2xl"
        >
          <Toast.Description>{plainly(i.text)}</Toast.Description>
          <Toast.Close asChild>
            <Button kind="quiet" className="-ml-2.5">
              Seen
            </Button>
          </Toast.Close>
        </Toast.Root>
      ))}
      <Toast.Viewport className="fixed right-4 bottom-4 z-30 flex w-[min(26rem,calc(100vw-2rem))] flex-col gap-3" />
    </Toast.Provider>
  );
}
