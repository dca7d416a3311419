import type { Schemas } from "../../api/client";
import { Button } from "../../parts/Button";
import { MarkButton, usePoints } from "../../parts/Pointing";
import { size } from "../../parts/words";

/** Facts are what can be said of both, with what is different marked. */
export function Facts({ list }: { list: Schemas["Pair"][] }) {
  if (list.length === 0) return null;
  return (
    <table className="h-fit w-full border-collapse text-left">
      <thead className="text-xs text-peat">
        <tr className="border-b border-line">
          <th className="py-1 pr-3 font-normal">
            <span className="sr-only">Fact</span>
          </th>
          <th className="py-1 pr-3 font-normal">Before</th>
          <th className="py-1 font-normal">After</th>
        </tr>
      </thead>
      <tbody>
        {list.map((f) => (
          <tr key={f.name} className="border-b border-line/60 align-top">
            <th scope="row" className="py-1 pr-3 font-normal text-peat">
              {f.name}
            </th>
            {f.changed ? (
              <>
                <td className="py-1 pr-3">{f.before || "–"}</td>
                <td className="py-1">
                  <strong className="border-l-2 border-copper pl-1.5 font-semibold">{f.after || "–"}</strong>{" "}
                  <span className="text-xs text-copper">changed</span>
                </td>
              </>
            ) : (
              <td colSpan={2} className="py-1">
                {f.after}
              </td>
            )}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

export function Measures({ list }: { list: Schemas["Fact"][] }) {
  if (list.length === 0) return null;
  return (
    <dl className="mb-4 flex flex-wrap gap-x-8 gap-y-2" aria-label="Measures">
      {list.map((m) => (
        <div key={m.name}>
          <dt className="text-xs text-peat">{m.name}</dt>
          <dd className={`text-lg ${m.value === "0" ? "text-peat" : "font-semibold"}`}>{m.value}</dd>
        </div>
      ))}
    </dl>
  );
}

/** Strip is which bytes are different, drawn over the length of the later version. */
export function Strip({ strip, tall = false }: { strip?: Schemas["Strip"] | undefined; tall?: boolean }) {
  if (!strip || strip.after === 0) return null;
  let at = 0;
  return (
    <figure>
      <svg
        viewBox="0 0 1000 28"
        preserveAspectRatio="none"
        className={`${tall ? "h-20 rounded-lg" : "h-7"} w-full bg-stone`}
        role="img"
        aria-label={`${size(strip.changed)} of ${size(strip.after)} are not as before`}
      >
        {strip.parts.map((p, i) => {
          const x = (at / strip.after) * 1000;
          at += p.size;
          return p.same ? null : (
            <rect key={i} x={x} y={4} width={Math.max((p.size / strip.after) * 1000, 1.5)} height={20} className="fill-copper" />
          );
        })}
      </svg>
      <figcaption className="mt-1 text-peat">
        {size(strip.changed)} of {size(strip.after)} lie in pieces that are not as before.
      </figcaption>
    </figure>
  );
}

const signs: Record<string, string> = { added: "+", removed: "−", changed: "≠", moved: "↦" };

/** Changes are the parts that are different. */
export function Changes({ list, left, narrow = false }: { list: Schemas["Change"][]; left: number; narrow?: boolean }) {
  const points = usePoints();
  if (list.length === 0) return null;
  const spot = (c: Schemas["Change"]) =>
    (c.what === "part" || c.what === "net") && c.change !== "removed" ? `${c.what} ${c.name}` : undefined;
  return (
    <>
      <h2 className={narrow ? "mb-2" : "mt-8 mb-2"}>Part by part</h2>
      <table className="w-full border-collapse text-left">
        <thead className="text-xs text-peat">
          <tr className="border-b border-line">
            <th className="py-1 pr-4 font-normal">What happened</th>
            <th className="py-1 pr-4 font-normal">To</th>
            <th className="py-1 pr-4 font-normal">Before</th>
            <th className="py-1 font-normal">After</th>
          </tr>
        </thead>
        <tbody>
          {list.map((c, i) => (
            <tr key={i} className="border-b border-line/60 align-top">
              <td className="py-1 pr-4 whitespace-nowrap">
                <span aria-hidden className="mr-1.5 inline-block w-3 text-copper">
                  {signs[c.change]}
                </span>
                {c.change}
                {c.distance ? ` by ${Number(c.distance.toPrecision(4))}` : ""}
              </td>
              <td className="py-1 pr-4 break-all">
                <span className="text-peat">{c.what}</span> {c.name}
                {points.marks
                  .filter((m) => m.where === spot(c))
                  .map((m) => (
                    <span key={m.number} className="ml-1 inline-block align-middle">
                      <MarkButton mark={m} points={points} />
                    </span>
                  ))}
                {points.point && spot(c) && (
                  <Button kind="quiet" onClick={() => points.point!(spot(c)!)}>
                    Point at it
                  </Button>
                )}
              </td>
              <td className="py-1 pr-4 break-all">{c.before}</td>
              <td className="py-1 break-all">{c.after}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {left > 0 && <p className="mt-2 text-peat">and {left.toLocaleString("en")} more</p>}
    </>
  );
}
