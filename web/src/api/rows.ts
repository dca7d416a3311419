import { useQueries, type QueryKey } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";

/** Rows is a list of which only what is looked at is asked for. */
export interface Rows<T, A = unknown> {
  total: number | undefined;
  /** There are more than that. */
  more: boolean;
  /** The row at a position; undefined while it is on its way. */
  at: (index: number) => T | undefined;
  /** Which rows are looked at. */
  see: (first: number, last: number) => void;
  /** The first page as it came, with what else is in it. */
  first: A | undefined;
  /** Asks for the rows from one position to another, past what is looked at. */
  load: (first: number, last: number) => Promise<T[]>;
  error: unknown;
  pending: boolean;
}

export const pageSize = 100;

/** The service gives so many rows at once. */
const largest = 5000;

/** pagesFor are the pages that rows lie on, the first one always among them: it says how many there are. */
export function pagesFor(first: number, last: number, size = pageSize): number[] {
  const pages = new Set([0]);
  for (let p = Math.floor(Math.max(0, first) / size); p <= Math.floor(Math.max(0, last) / size); p++) pages.add(p);
  return [...pages].sort((a, b) => a - b);
}

interface Source<T, A> {
  /** What the list is named by; another name is another list. */
  queryKey: QueryKey;
  fetch: (skip: number, limit: number) => Promise<A>;
  rows: (answer: A) => T[];
  total: (answer: A) => number;
  more?: (answer: A) => boolean;
  enabled?: boolean;
}

/**
 * useRows asks for the pages of a list that are looked at, from any place on. What was asked for stays until it changes, and while another
 * list comes, the one before is shown.
 */
export function useRows<T, A>({ queryKey, fetch, rows, total, more, enabled = true }: Source<T, A>): Rows<T, A> {
  const [range, setRange] = useState({ name: "", low: 0, high: 0 });
  const name = JSON.stringify(queryKey);
  const wanted = range.name === name ? pagesFor(range.low, range.high) : [0]; // another list begins at its beginning
  const found = useQueries({
    queries: wanted.map((page) => ({
      queryKey: [...queryKey, page],
      queryFn: () => fetch(page * pageSize, pageSize),
      enabled,
      staleTime: 60_000,
    })),
  });
  const parts = new Map(found.map((f, i) => [wanted[i]!, f.data]));
  const before = useRef<A>(undefined);
  const first = parts.get(0);
  if (first !== undefined) before.current = first;
  const shown = first ?? before.current;
  const see = useCallback(
    (low: number, high: number) =>
      setRange((now) =>
        now.name === name && String(pagesFor(now.low, now.high)) === String(pagesFor(low, high)) ? now : { name, low, high },
      ),
    [name],
  );
  const source = useRef({ fetch, rows });
  useEffect(() => {
    source.current = { fetch, rows };
  });
  const load = useCallback(async (low: number, high: number) => {
    const list: T[] = [];
    for (let i = low; i <= high; i += largest) {
      list.push(...source.current.rows(await source.current.fetch(i, Math.min(largest, high - i + 1))));
    }
    return list;
  }, []);
  return {
    total: shown && total(shown),
    more: !!shown && !!more?.(shown),
    at: (i) => {
      const part = first === undefined && i < pageSize ? before.current : parts.get(Math.floor(i / pageSize));
      return part && rows(part)[i % pageSize];
    },
    see,
    load,
    first: shown,
    error: found.find((f) => f.error)?.error,
    pending: first === undefined && !found[0]!.error,
  };
}
