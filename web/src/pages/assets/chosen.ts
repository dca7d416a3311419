import { useCallback, useEffect, useRef, useState } from "react";
import type { Asset } from "../../api/client";
import type { Rows } from "../../api/rows";

/** So many assets can be chosen at once. */
export const most = 20_000;

export interface Chosen {
  /** What is chosen, by path. */
  assets: ReadonlyMap<string, Asset>;
  /** Chooses one row, or not any more; with range, all from the row that was chosen before to this one. */
  choose: (index: number, asset: Asset, range: boolean) => void;
  /** Chooses all that the list shows, as far as that goes. */
  all: () => void;
  none: () => void;
  error: unknown;
}

const nothing: ReadonlyMap<string, Asset> = new Map();

/** useChosen is what of a list one has chosen, to do something with all of it at once. name is that of the list: another one begins anew. */
export function useChosen(rows: Rows<Asset>, name: string): Chosen {
  const [assets, set] = useState(nothing);
  const [error, setError] = useState<unknown>();
  const [of, setOf] = useState(name);
  if (of !== name) {
    setOf(name);
    set(nothing);
  }
  const { load, total = 0 } = rows;
  const last = useRef(-1);
  // biome-ignore lint/correctness/useExhaustiveDependencies: a range does not reach over from another list
  useEffect(() => {
    last.current = -1;
  }, [name]);
  const add = useCallback(
    (from: number, to: number) => {
      setError(undefined);
      load(from, Math.min(to, from + most - 1))
        .then((list) => set((now) => new Map([...now, ...list.map((a): [string, Asset] => [a.path, a])].slice(0, most))))
        .catch(setError);
    },
    [load],
  );
  const choose = useCallback(
    (index: number, asset: Asset, range: boolean) => {
      const before = last.current;
      last.current = index;
      if (range && before >= 0 && before !== index) return add(Math.min(before, index), Math.max(before, index));
      set((now) => {
        const next = new Map(now);
        if (!next.delete(asset.path) && next.size < most) next.set(asset.path, asset);
        return next;
      });
    },
    [add],
  );
  const all = useCallback(() => add(0, total - 1), [add, total]);
  const none = useCallback(() => set(nothing), []);
  return { assets, choose, all, none, error };
}
