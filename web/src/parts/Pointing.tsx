import { createContext, useContext, type ReactNode } from "react";

/** Mark is a remark that points at what is shown. elsewhere says that it was made on another version. */
export interface Mark {
  number: number;
  where: string;
  settled: boolean;
  elsewhere: boolean;
}

/** Points is what is pointed at in the version that is shown, and how one points at something oneself. */
export interface Points {
  marks: Mark[];
  chosen?: number | undefined;
  choose: (number: number) => void;
  /** The spot that one points at, and how to point at another one; undefined where one only looks. */
  spot?: string | undefined;
  point?: ((where: string) => void) | undefined;
}

const nothing: Points = { marks: [], choose: () => {} };
const Context = createContext(nothing);
export const Pointing = Context.Provider;
export const usePoints = () => useContext(Context);

/** spotPlace is a place on a picture in percent; undefined for any other spot. */
export function spotPlace(where: string | undefined): { x: number; y: number } | undefined {
  const m = /^([\d.]+)%,([\d.]+)%$/.exec(where ?? "");
  return m ? { x: Number(m[1]), y: Number(m[2]) } : undefined;
}

export const placeSpot = (x: number, y: number) => `${Number(x.toFixed(2))}%,${Number(y.toFixed(2))}%`;

/** spotMoment is a moment in a sound in seconds. */
export function spotMoment(where: string): number | undefined {
  const m = /^(?:(\d+):)?(\d+):([\d.]+)$/.exec(where);
  return m ? Number(m[1] ?? 0) * 3600 + Number(m[2]) * 60 + Number(m[3]) : undefined;
}

export function momentSpot(seconds: number): string {
  const s = Math.round(seconds * 100) / 100;
  const rest = (s % 60).toFixed(2).replace(/\.?0+$/, "");
  const padded = /^\d(\.|$)/.test(rest) ? `0${rest}` : rest;
  const minutes = Math.floor(s / 60);
  return minutes >= 60 ? `${Math.floor(minutes / 60)}:${String(minutes % 60).padStart(2, "0")}:${padded}` : `${minutes}:${padded}`;
}

/** spotPoint is a point in a model, in its own units. */
export function spotPoint(where: string): [number, number, number] | undefined {
  const parts = where.split(",").map(Number);
  return parts.length === 3 && parts.every(Number.isFinite) ? (parts as [number, number, number]) : undefined;
}

/** spotNamed is the rest of a spot behind a word: of "part R4" behind "part" it is "R4". */
export const spotNamed = (where: string, word: string) => (where.startsWith(`${word} `) ? where.slice(word.length + 1) : undefined);

/** Diamond is how a remark looks on a thing. */
export function Diamond({
  number,
  settled = false,
  chosen = false,
  elsewhere = false,
}: {
  number: number | string;
  settled?: boolean;
  chosen?: boolean;
  elsewhere?: boolean;
}) {
  return (
    <span className="inline-grid size-6 place-items-center align-middle">
      <span
        aria-hidden
        className={`col-start-1 row-start-1 size-4.5 rotate-45 border-2 ${settled ? "border-peat bg-stone" : "border-deep bg-copper"} ${elsewhere ? "border-dashed" : ""} ${chosen ? "outline-2 outline-ink" : ""}`}
      />
      <span className={`relative col-start-1 row-start-1 text-xs leading-none font-semibold ${settled ? "text-ink" : "text-on-copper"}`}>
        {number}
      </span>
    </span>
  );
}

/** MarkButton is a mark that one can choose. */
export function MarkButton({ mark: m, points }: { mark: Mark; points: Points }) {
  return (
    <button
      type="button"
      data-mark={m.number}
      onClick={() => points.choose(m.number)}
      aria-pressed={points.chosen === m.number}
      aria-label={`Remark ${m.number} at ${m.where}${m.settled ? ", settled" : ""}`}
      className="block cursor-pointer"
    >
      <Diamond number={m.number} settled={m.settled} chosen={points.chosen === m.number} elsewhere={m.elsewhere} />
    </button>
  );
}

/** PlaceMarks are the marks at places of a picture, and the place one points at; they stay as large as they are, however much the picture is enlarged. */
export function PlaceMarks({ scale = 1 }: { scale?: number }) {
  const points = usePoints();
  const at = (p: { x: number; y: number }) => ({ left: `${p.x}%`, top: `${p.y}%`, transform: `translate(-50%, -50%) scale(${1 / scale})` });
  const own = spotPlace(points.spot);
  return (
    <>
      {points.marks.map((m) => {
        const p = spotPlace(m.where);
        return (
          p && (
            <span key={m.number} className="absolute" style={at(p)}>
              <MarkButton mark={m} points={points} />
            </span>
          )
        );
      })}
      {own && (
        <span className="pointer-events-none absolute" style={at(own)}>
          <Diamond number="+" chosen />
        </span>
      )}
    </>
  );
}

/** spotPage is on which page of a document a place is, and the place there. */
function spotPage(where: string): [page: number, place: string] {
  const m = /^page (\d+) (.*)$/.exec(where);
  return m ? [Number(m[1]), m[2]!] : [1, where];
}

/** OnPage has the marks that are on one page of a document, and points at what is there. */
export function OnPage({ page, children }: { page: number; children: ReactNode }) {
  const points = usePoints();
  const here = (where: string) => spotPage(where)[0] === page;
  return (
    <Pointing
      value={{
        ...points,
        marks: points.marks.filter((m) => here(m.where)).map((m) => ({ ...m, where: spotPage(m.where)[1] })),
        spot: points.spot && here(points.spot) ? spotPage(points.spot)[1] : undefined,
        point: points.point && ((where) => points.point!(page > 1 ? `page ${page} ${where}` : where)),
      }}
    >
      {children}
    </Pointing>
  );
}

/** markedPages are the pages of a document with remarks on them. */
export const markedPages = (points: Points) =>
  new Set(points.marks.filter((m) => spotPlace(spotPage(m.where)[1])).map((m) => spotPage(m.where)[0]));

type Frame = readonly number[];
interface Box {
  name: string;
  at: readonly number[];
}
interface Circuit {
  frame?: Frame;
  parts?: Box[];
  nets?: Box[];
}

/** OnSheet turns what is said of a circuit into places on a picture of it, and back: a part is where it is drawn, a net where it has its first pin, and a place on the drawing of the
 * version alone (own) is somewhere else on one that shows another stretch of the sheet (shown). */
export function OnSheet({
  shown,
  of: { frame: own, parts, nets },
  children,
}: {
  shown: Frame | undefined;
  of: Circuit;
  children: ReactNode;
}) {
  const points = usePoints();
  if (own?.length !== 4 || shown?.length !== 4) return children;
  const units = (f: Frame, x: number, y: number) => [f[0]! + (x / 100) * (f[2]! - f[0]!), f[1]! + (y / 100) * (f[3]! - f[1]!)] as const;
  const percent = (f: Frame, x: number, y: number) =>
    placeSpot(((x - f[0]!) / (f[2]! - f[0]!)) * 100, ((y - f[1]!) / (f[3]! - f[1]!)) * 100);
  const place = (where: string) => {
    const p = spotPlace(where);
    if (p) return percent(shown, ...units(own, p.x, p.y));
    const box = parts?.find((b) => b.name === spotNamed(where, "part")) ?? nets?.find((b) => b.name === spotNamed(where, "net"));
    return box ? percent(shown, (box.at[0]! + box.at[2]!) / 2, (box.at[1]! + box.at[3]!) / 2) : where;
  };
  const area = (b: Box) => (b.at[2]! - b.at[0]!) * (b.at[3]! - b.at[1]!);
  const spotAt = (where: string) => {
    const p = spotPlace(where);
    if (!p) return where;
    const [x, y] = units(shown, p.x, p.y);
    const hit = parts?.filter((b) => x >= b.at[0]! && x <= b.at[2]! && y >= b.at[1]! && y <= b.at[3]!).sort((a, b) => area(a) - area(b))[0];
    return hit ? `part ${hit.name}` : percent(own, x, y);
  };
  return (
    <Pointing
      value={{
        ...points,
        marks: points.marks.map((m) => ({ ...m, where: place(m.where) })),
        spot: points.spot && place(points.spot),
        point: points.point && ((where) => points.point!(spotAt(where))),
      }}
    >
      {children}
    </Pointing>
  );
}
