import { useSyncExternalStore } from "react";

let is = false;
const listeners = new Set<() => void>();

function set(next: boolean) {
  if (is === next) return;
  is = next;
  for (const l of listeners) l();
}

/** signedOut is whether the service does not know any more who one is. */
export const signedOut = {
  notice: () => set(true),
  over: () => set(false),
};

export const useSignedOut = () =>
  useSyncExternalStore(
    (l) => {
      listeners.add(l);
      return () => listeners.delete(l);
    },
    () => is,
  );
