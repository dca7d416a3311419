import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** useAddress is what of a page stands in its address, so that a link passes it on, and how to change some of it; "" takes a part away. */
export function useAddress(): [URLSearchParams, (changes: Record<string, string>) => void] {
  const [params, setParams] = useSearchParams();
  const set = useCallback(
    (changes: Record<string, string>) =>
      setParams(
        (now) => {
          const next = new URLSearchParams(now);
          for (const [k, v] of Object.entries(changes)) v ? next.set(k, v) : next.delete(k);
          return next;
        },
        { replace: true },
      ),
    [setParams],
  );
  return [params, set];
}
