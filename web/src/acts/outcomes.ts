import { useSyncExternalStore } from "react";
import type { Way } from "../api/words.gen";

/** Outcome is what came of something that one did: an error to read and act on, or words that are said once. */
export interface Outcome {
  id: number;
  what: string;
  error?: unknown;
  /** The seat or folder that it was for, by which a way out goes on. */
  workspace?: string | undefined;
  /** Ways out that only what was done knows how to go. */
  go?: Partial<Record<Way, () => void>> | undefined;
}

let list: readonly Outcome[] = [];
let said = "";
let last = 0;
const listeners = new Set<() => void>();

function set(next: readonly Outcome[]) {
  list = next;
  for (const l of listeners) l();
}

const subscribe = (l: () => void) => {
  listeners.add(l);
  return () => listeners.delete(l);
};

/** outcomes is the one place for what came of what one does: above the page, where no live change takes it away. */
export const outcomes = {
  failed(o: Omit<Outcome, "id">) {
    set([...list.filter((x) => x.what !== o.what), { ...o, id: ++last }].slice(-4));
  },
  done(what: string, words: string) {
    said = words;
    set(list.filter((x) => x.what !== what));
  },
  close(id: number) {
    set(list.filter((x) => x.id !== id));
  },
  clear() {
    said = "";
    set([]);
  },
};

export const useOutcomes = () => useSyncExternalStore(subscribe, () => list);
export const useSaid = () => useSyncExternalStore(subscribe, () => said);

declare module "@tanstack/react-query" {
  interface Register {
    mutationMeta: {
      /** In a few words what is done: what came of it is said under that name. */
      what?: string;
      workspace?: string;
      go?: Outcome["go"];
    };
  }
}
