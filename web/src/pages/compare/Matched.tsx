import type { Schemas } from "../../api/client";

const words: Record<string, string> = { added: "added", removed: "removed", changed: "changed" };
const tones: Record<string, string> = { added: "bg-copper-wash", removed: "bg-ice-wash line-through decoration-1" };

/** Matched is a table with what changed in it: rows that came and went, and in cells what stood there before. */
export function Matched({ table }: { table: Schemas["Matched"] }) {
  return (
    <div className="mt-5 max-h-[38rem] overflow-auto rounded-lg border border-line">
      <table className="w-full border-collapse text-left" aria-label="Both tables">
        <thead className="sticky top-0 bg-stone">
          <tr>
            <th className="px-2.5 py-1 font-normal text-peat">
              <span className="sr-only">What happened</span>
            </th>
            {table.heads.map((h, i) => (
              <th key={i} className="px-2.5 py-1 font-semibold">
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {table.rows.map((row, i) => (
            <tr key={i} className={`border-t border-line/60 align-top ${tones[row.change ?? ""] ?? ""}`}>
              <td className="px-2.5 py-1 text-xs text-copper">{words[row.change ?? ""] ?? ""}</td>
              {row.cells.map((cell, k) => {
                const was = row.was?.[k];
                return (
                  <td key={k} className="px-2.5 py-1">
                    {was === undefined ? (
                      cell
                    ) : (
                      <>
                        <del className="text-peat decoration-1">{was || "(empty)"}</del>{" "}
                        <ins className="border-b-2 border-copper font-semibold no-underline">{cell || "(empty)"}</ins>
                      </>
                    )}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
      {(table.left ?? 0) > 0 && <p className="px-2.5 py-1 text-peat">{table.left?.toLocaleString("en")} more rows are not shown</p>}
    </div>
  );
}
