import { Dialog } from "radix-ui";
import { useEffect, useSyncExternalStore } from "react";
import { Button } from "./Button";
import { writing } from "./writing";

const kept = "kettle-tarn-single-keys";
const listeners = new Set<() => void>();
const on = () => localStorage.getItem(kept) !== "off";
const set = (v: boolean) => {
  localStorage.setItem(kept, v ? "on" : "off");
  for (const l of listeners) l();
};
const subscribe = (l: () => void) => {
  listeners.add(l);
  return () => listeners.delete(l);
};

/** useKey does something at a single key, where one is not writing and has not switched such keys off. */
export function useKey(name: string, act: () => void) {
  useEffect(() => {
    const pressed = (e: KeyboardEvent) => {
      if (e.key !== name || e.ctrlKey || e.metaKey || e.altKey || !on() || writing(e.target)) return;
      e.preventDefault();
      act();
    };
    addEventListener("keydown", pressed);
    return () => removeEventListener("keydown", pressed);
  });
}

const list: [keys: string[], does: string][] = [
  [["/"], "find, in a project"],
  [["n", "b"], "in a review: the next thing, the one before"],
  [["?"], "these keys"],
  [["arrows"], "in folders, choices and menus; on a picture or a model they move it"],
  [["Enter"], "in a dialog: do it; on a picture or a model in a review: point at its middle"],
  [["Esc"], "close a dialog or a menu"],
  [["Tab"], "first of all: past the header, to the page"],
];

/** Keys is the list of keys, at a key of its own. Those of a single character can be switched off, for who speaks to the machine. */
export function Keys({ open, onOpen }: { open: boolean; onOpen: (open: boolean) => void }) {
  const single = useSyncExternalStore(subscribe, on);
  useKey("?", () => onOpen(true));
  return (
    <Dialog.Root open={open} onOpenChange={onOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-deep/75" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-1/2 left-1/2 z-30 max-h-[calc(100dvh-2rem)] w-[min(34rem,calc(100vw-2rem))] -translate-1/2 overflow-y-auto rounded-lg border border-line bg-bank p-5 shadow-2xl"
        >
          <Dialog.Title className="mb-3 text-lg font-semibold">Keys</Dialog.Title>
          <dl className="grid grid-cols-[auto_1fr] gap-x-5 gap-y-1.5">
            {list.map(([keys, does]) => (
              <div key={does} className="contents">
                <dt>
                  {keys.map((k) => (
                    <kbd key={k} className="mr-1 rounded-md border border-edge px-1.5 py-0.5 text-xs">
                      {k}
                    </kbd>
                  ))}
                </dt>
                <dd className="text-peat">{does}</dd>
              </div>
            ))}
          </dl>
          <label className="mt-4 flex items-center gap-2">
            <input type="checkbox" checked={single} onChange={(e) => set(e.target.checked)} /> Keys of a single character, in this browser
          </label>
          <Dialog.Close asChild>
            <Button className="mt-4">Close</Button>
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
