import { Fragment } from "react";
import type { Schemas } from "../../api/client";
import { LineNumber } from "../../parts/LineNumber";

type Row = Schemas["Row"];

/** Lines are two texts line by line, with the numbers of both. What is different within a line is underlined. */
export function Lines({ rows, left }: { rows: Row[]; left: number }) {
  let last = 0;
  return (
    <table className="mt-5 w-full border-collapse font-mono text-xs leading-5" aria-label="Line by line">
      <tbody>
        {rows.map((r, i) => {
          const gap = r.before && last > 0 && r.before > last + 1;
          if (r.before) last = r.before;
          return (
            <Fragment key={i}>
              {gap && (
                <tr aria-hidden>
                  <td colSpan={4} className="py-0.5 text-center text-peat">
                    ⋮
                  </td>
                </tr>
              )}
              {r.kind === "same" && <Line before={r.before} after={r.after} sign="" text={r.text} />}
              {(r.kind === "removed" || r.kind === "changed") && (
                <Line
                  before={r.before}
                  sign="−"
                  text={r.kind === "changed" ? (r.old ?? "") : r.text}
                  marks={r.old_marks}
                  tone="bg-ice-wash"
                />
              )}
              {(r.kind === "added" || r.kind === "changed") && (
                <Line after={r.after} sign="+" text={r.text} marks={r.marks} tone="bg-copper-wash" />
              )}
            </Fragment>
          );
        })}
        {left > 0 && (
          <tr>
            <td colSpan={4} className="py-2 text-peat">
              and {left.toLocaleString("en")} more lines
            </td>
          </tr>
        )}
      </tbody>
    </table>
  );
}

function Line({
  before,
  after,
  sign,
  text,
  marks,
  tone = "",
}: {
  before?: number | undefined;
  after?: number | undefined;
  sign: string;
  text: string;
  marks?: number[] | undefined;
  tone?: string;
}) {
  return (
    <tr className={tone}>
      <td className="w-12 pr-2 text-right text-peat select-none">{before}</td>
      <td className="w-12 pr-3 text-right text-peat select-none">{after !== undefined && <LineNumber line={after} />}</td>
      <td className="w-5 select-none">{sign}</td>
      <td className="break-all whitespace-pre-wrap">{marked(text, marks ?? [])}</td>
    </tr>
  );
}

/** marked cuts a line at its marks, which count bytes of UTF-8. */
function marked(text: string, marks: number[]) {
  const bytes = new TextEncoder().encode(text);
  const part = (from: number, to?: number) => new TextDecoder().decode(bytes.slice(from, to));
  const out = [];
  let at = 0;
  for (let i = 0; i + 1 < marks.length; i += 2) {
    out.push(
      part(at, marks[i]),
      <mark key={i} className="bg-transparent font-bold text-ink underline decoration-copper decoration-2 underline-offset-2">
        {part(marks[i]!, marks[i + 1])}
      </mark>,
    );
    at = marks[i + 1]!;
  }
  out.push(part(at));
  return out;
}
