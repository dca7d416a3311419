import { useState } from "react";
import { markedPages, OnPage, usePoints } from "../../parts/Pointing";
import { Pictures } from "./Pictures";
import type { Comparison } from "./useCompare";

interface Props {
  comparison: Comparison;
  first: (name: string) => string;
  second: (name: string) => string;
  of: (name: string) => string;
}

/** Pages are the pages of two documents, side by side; one begins with the first that changed. */
export function Pages({ comparison: c, first, second, of }: Props) {
  const [before, after] = [c.before.pages ?? 0, c.after.pages ?? 0];
  const pages = Array.from({ length: Math.max(before, after) }, (_, i) => i + 1);
  const changed = (p: number) => p > before || p > after || c.files.includes(`difference-page-${p}.png`);
  const marked = markedPages(usePoints());
  const [chosen, setPage] = useState<number>();
  const page = chosen ?? pages.find(changed) ?? 1;
  const name = `page-${page}.png`;
  const both = page <= before && page <= after;
  return (
    <>
      <nav className="mb-3 flex flex-wrap gap-1.5" aria-label="Pages">
        {pages.map((p) => (
          <button
            key={p}
            type="button"
            aria-current={p === page}
            onClick={() => setPage(p)}
            className={`rounded-md border px-2.5 py-1 ${p === page ? "border-copper font-semibold" : "border-line text-peat hover:text-ink"}`}
          >
            {p}
            {changed(p) && <span className="ml-1.5 text-xs text-copper">{p > before ? "added" : p > after ? "removed" : "changed"}</span>}
            {marked.has(p) && <span className="ml-1.5 text-xs text-copper">remarks</span>}
          </button>
        ))}
      </nav>
      <OnPage page={page}>
        {both ? (
          <Pictures
            key={page}
            before={first(name)}
            after={second(name)}
            {...(c.files.includes(`difference-${name}`) && { difference: of(`difference-${name}`) })}
            channels={false}
          />
        ) : (
          pages.length > 0 && <Pictures key={page} after={page <= after ? second(name) : first(name)} channels={false} />
        )}
      </OnPage>
    </>
  );
}
