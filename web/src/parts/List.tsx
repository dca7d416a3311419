import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useLayoutEffect, useRef, useState, type ReactNode } from "react";
import type { Rows } from "../api/rows";

/** Browsers place nothing beyond some millions of pixels: of a longer list this many rows are shown, and it says so. */
const most = 200_000;

interface Props<T> {
  rows: Rows<T>;
  /** How high a row is, about; measured says that rows are as high as what is in them. */
  height: number;
  measured?: boolean;
  /** How many stand side by side; 1 where nothing is said. */
  columns?: number;
  role?: "table" | "list";
  label: string;
  head?: ReactNode;
  className?: string;
  row: (row: T, index: number) => ReactNode;
}

/** List shows the rows in view, however many there are, and has a place for each: the scrollbar leads anywhere. */
export function List<T>({ rows, height, measured = false, columns = 1, role = "list", label, head, className = "", row }: Props<T>) {
  const top = useRef<HTMLDivElement>(null);
  const [offset, setOffset] = useState(0);
  const count = Math.min(rows.total ?? 0, most);
  // biome-ignore lint/correctness/useExhaustiveDependencies: where it stands changes with what is above it
  useLayoutEffect(() => setOffset(top.current ? top.current.getBoundingClientRect().top + scrollY : 0), [count > 0, label]);
  const lines = useWindowVirtualizer({ count: Math.ceil(count / columns), estimateSize: () => height, overscan: 6, scrollMargin: offset });
  // biome-ignore lint/correctness/useExhaustiveDependencies: other rows are measured anew
  useEffect(() => lines.measure(), [lines, height, columns]);
  const shown = lines.getVirtualItems();
  const [first, last] = [(shown[0]?.index ?? 0) * columns, Math.max(0, Math.min(count, ((shown.at(-1)?.index ?? 0) + 1) * columns) - 1)];
  const { see } = rows;
  useEffect(() => see(first, last), [see, first, last]);
  const item = role === "table" ? "row" : "listitem";
  return (
    <div role={role} aria-label={label} {...(role === "table" && { "aria-rowcount": rows.total })}>
      {head}
      <div
        ref={top}
        role={role === "table" ? "rowgroup" : "presentation"}
        className={`relative ${className}`}
        style={{ height: lines.getTotalSize() }}
      >
        {shown.map((line) => (
          <div
            key={line.key}
            data-index={line.index}
            ref={measured ? lines.measureElement : undefined}
            role="presentation"
            className="absolute inset-x-0"
            style={{
              ...(!measured && { height: line.size }),
              transform: `translateY(${line.start - offset}px)`,
              ...(columns > 1 && { display: "grid", gridTemplateColumns: `repeat(${columns}, minmax(0, 1fr))` }),
            }}
          >
            {Array.from({ length: columns }, (_, i) => line.index * columns + i)
              .filter((i) => i < count)
              .map((i) => {
                const data = rows.at(i);
                const place = item === "row" ? { "aria-rowindex": i + 1 } : { "aria-posinset": i + 1, "aria-setsize": rows.total };
                return (
                  <div key={i} role={item} {...place} className="h-full min-w-0">
                    {data === undefined ? (
                      // As high as is thought: rows on their way that took no room would be many, and be measured again and again.
                      <span
                        className="block h-full border-b border-line/60 text-peat"
                        aria-busy="true"
                        {...(measured && { style: { height } })}
                      />
                    ) : (
                      row(data, i)
                    )}
                  </div>
                );
              })}
          </div>
        ))}
      </div>
      {((rows.total ?? 0) > most || rows.more) && (
        <p className="mt-3 text-peat">
          The first {most.toLocaleString("en")}
          {!rows.more && ` of ${rows.total!.toLocaleString("en")}`}. A filter shows the others.
        </p>
      )}
    </div>
  );
}
