import { Choice } from "../../parts/Choice";
import { useEffect, useRef, useState, type PointerEvent, type ReactNode } from "react";
import { Button } from "../../parts/Button";
import { placeSpot, PlaceMarks, usePoints } from "../../parts/Pointing";

const modes = ["Side by side", "Wipe", "Blink", "Difference"] as const;
export type Mode = (typeof modes)[number];
const channels = ["All", "Red", "Green", "Blue", "Alpha"] as const;

interface View {
  x: number;
  y: number;
  scale: number;
}

export interface PicturesProps {
  before?: string;
  after: string;
  difference?: string;
  lit?: [string, string];
  /** Which way of looking comes first. */
  first?: Mode;
  /** What the difference shows. */
  legend?: string;
  /** Whether single channels are of use. */
  channels?: boolean;
  /** What is shown in place of one picture until that is there. */
  until?: { src: string; ratio: number };
}

/** Pictures lays two pictures side by side, over each other with a wipe, by turns, or shows what is different; zoomed and moved as one. One picture alone is
 * shown by itself. */
export function Pictures({
  before,
  after,
  difference,
  lit,
  first = "Side by side",
  legend = "what is different, the more the brighter",
  channels: single = true,
  until,
}: PicturesProps) {
  const ways = modes.filter((m) => m !== "Difference" || difference);
  const [wanted, setMode] = useState<Mode>(first);
  const mode = ways.includes(wanted) ? wanted : ways[0];
  const [channel, setChannel] = useState<(typeof channels)[number]>("All");
  const [asLit, setLit] = useState(false);
  const [view, setView] = useState<View>({ x: 0, y: 0, scale: 1 });
  const [wipe, setWipe] = useState(0.5);
  const [turn, setTurn] = useState(false);
  const [ratio, setRatio] = useState(until?.ratio ?? 1.5);
  useEffect(() => {
    if (mode !== "Blink") return;
    const timer = setInterval(() => setTurn((t) => !t), 700);
    return () => clearInterval(timer);
  }, [mode]);
  const points = usePoints();
  const [one, two] = asLit && lit ? lit : [before, after];
  const shown = { view, setView, channel, ratio, onRatio: setRatio };
  return (
    <section aria-label="Pictures">
      <div className="mb-3 flex flex-wrap items-center gap-x-6 gap-y-2">
        {before && <Choice label="How" options={ways} value={mode!} onChange={setMode} />}
        {single && <Choice label="Channel" options={channels} value={channel} onChange={setChannel} />}
        {lit && (
          <label className="flex items-center gap-1.5">
            <input type="checkbox" checked={asLit} onChange={(e) => setLit(e.target.checked)} /> lit, as a normal map
          </label>
        )}
        <Button kind="quiet" onClick={() => setView({ x: 0, y: 0, scale: 1 })} disabled={view.scale === 1 && view.x === 0 && view.y === 0}>
          Whole picture
        </Button>
        <span className="text-xs text-peat">
          {Math.round(view.scale * 100)} %. Wheel or + and − to zoom, drag or arrow keys to move.
          {points.point && " Click, or Enter for the middle, to point at something."}
        </span>
      </div>
      {!before || !one ? (
        <Pane {...shown} label="" pointed>
          <Layer src={two} name="the picture" {...shown} pointed {...(until && { until: until.src })} />
        </Pane>
      ) : (
        <>
          {mode === "Side by side" && (
            <div className="grid grid-cols-2 gap-2">
              <Pane {...shown} label="before">
                <Layer src={one} name="before" {...shown} />
              </Pane>
              <Pane {...shown} label="after" pointed>
                <Layer src={two} name="after" {...shown} pointed />
              </Pane>
            </div>
          )}
          {mode === "Wipe" && (
            <>
              <Pane {...shown} label="before | after" pointed>
                <Layer src={two} name="after" {...shown} pointed />
                <span className="pointer-events-none absolute inset-0" style={{ clipPath: `inset(0 ${100 - wipe * 100}% 0 0)` }}>
                  <Layer src={one} name="before" {...shown} />
                </span>
                <span aria-hidden className="absolute inset-y-0 w-0.5 bg-copper" style={{ left: `${wipe * 100}%` }} />
              </Pane>
              <input
                type="range"
                min={0}
                max={1}
                step={0.005}
                value={wipe}
                aria-label="Wipe"
                className="mt-2 w-full accent-copper"
                onChange={(e) => setWipe(Number(e.target.value))}
              />
            </>
          )}
          {mode === "Blink" && (
            <Pane {...shown} label={turn ? "after" : "before"} pointed>
              <Layer src={two} name="after" {...shown} pointed />
              <span className={turn ? "hidden" : "pointer-events-none absolute inset-0"}>
                <Layer src={one} name="before" {...shown} />
              </span>
            </Pane>
          )}
          {mode === "Difference" && difference && (
            <Pane {...shown} label={legend} pointed>
              <Layer src={difference} name="difference" {...shown} channel="All" pointed />
            </Pane>
          )}
        </>
      )}
      <Filters />
    </section>
  );
}

const clamp = (s: number) => Math.min(64, Math.max(0.25, s));

/** Pane is a window on a picture. What is done to the view of one is done to all. */
function Pane({
  view,
  setView,
  label,
  ratio,
  pointed = false,
  children,
}: {
  view: View;
  setView: (v: View) => void;
  label: string;
  ratio: number;
  pointed?: boolean;
  children: ReactNode;
}) {
  const { point } = usePoints();
  const box = useRef<HTMLDivElement>(null);
  const drag = useRef<{ x: number; y: number }>(undefined);
  const down = useRef({ x: 0, y: 0 });
  const latest = useRef(view);
  latest.current = view;
  useEffect(() => {
    const el = box.current!;
    const wheel = (e: WheelEvent) => {
      e.preventDefault();
      const v = latest.current;
      const r = el.getBoundingClientRect();
      const scale = clamp(v.scale * Math.exp(-e.deltaY / 400));
      const [px, py] = [(e.clientX - r.left) / r.width - 0.5, (e.clientY - r.top) / r.height - 0.5];
      const f = scale / v.scale;
      setView({ scale, x: px - (px - v.x) * f, y: py - (py - v.y) * f });
    };
    el.addEventListener("wheel", wheel, { passive: false });
    return () => el.removeEventListener("wheel", wheel);
  }, [setView]);
  const move = (e: PointerEvent) => {
    if (!drag.current) return;
    const r = box.current!.getBoundingClientRect();
    setView({ ...view, x: view.x + (e.clientX - drag.current.x) / r.width, y: view.y + (e.clientY - drag.current.y) / r.height });
    drag.current = { x: e.clientX, y: e.clientY };
  };
  /** pointAt points at what of the picture is at a place of the window. */
  const pointAt = (x: number, y: number) => {
    const r = box.current?.querySelector("[data-pointed]")?.getBoundingClientRect();
    if (!point || !pointed || !r) return;
    const [px, py] = [((x - r.left) / r.width) * 100, ((y - r.top) / r.height) * 100];
    if (px >= 0 && px <= 100 && py >= 0 && py <= 100) point(placeSpot(px, py));
  };
  const middle = () => {
    const r = box.current!.getBoundingClientRect();
    pointAt(r.left + r.width / 2, r.top + r.height / 2);
  };
  const keys: Record<string, () => View> = {
    "+": () => ({ ...view, scale: clamp(view.scale * 1.25) }),
    "-": () => ({ ...view, scale: clamp(view.scale / 1.25) }),
    ArrowLeft: () => ({ ...view, x: view.x + 0.05 }),
    ArrowRight: () => ({ ...view, x: view.x - 0.05 }),
    ArrowUp: () => ({ ...view, y: view.y + 0.05 }),
    ArrowDown: () => ({ ...view, y: view.y - 0.05 }),
  };
  return (
    <figure className="min-w-0">
      <div
        ref={box}
        tabIndex={0}
        role="group"
        aria-label={label ? `Picture, ${label}` : "Picture"}
        className={`group relative touch-none overflow-hidden rounded-lg bg-stone [container-type:size] ${drag.current ? "cursor-grabbing" : point && pointed ? "cursor-crosshair" : "cursor-grab"} max-h-[54vh] w-full`}
        style={{ aspectRatio: String(Math.min(3, Math.max(0.6, ratio))) }}
        onPointerDown={(e) => {
          if ((e.target as Element).closest("[data-mark]")) return;
          drag.current = down.current = { x: e.clientX, y: e.clientY };
          e.currentTarget.setPointerCapture(e.pointerId);
        }}
        onPointerMove={move}
        onPointerUp={(e) => {
          const clicked = drag.current && e.button === 0 && Math.hypot(e.clientX - down.current.x, e.clientY - down.current.y) < 4;
          drag.current = undefined;
          if (clicked) pointAt(e.clientX, e.clientY);
        }}
        onKeyDown={(e) => {
          if (e.target !== e.currentTarget) return;
          if (e.key === "Enter") middle();
          const k = keys[e.key === "=" ? "+" : e.key];
          if (k) {
            e.preventDefault();
            setView(k());
          }
        }}
      >
        {children}
        {point && pointed && (
          <span
            aria-hidden
            className="pointer-events-none absolute top-1/2 left-1/2 hidden size-4 -translate-1/2 border border-copper group-focus-visible:block"
          />
        )}
      </div>
      {label && <figcaption className="mt-1 text-peat">{label}</figcaption>}
    </figure>
  );
}

/** Layer is a picture in a pane, as large as fits; pointed is the one that remarks are about. */
function Layer({
  src,
  name,
  view,
  channel,
  ratio,
  onRatio,
  pointed = false,
  until,
}: {
  src: string;
  name: string;
  view: View;
  channel: string;
  ratio: number;
  onRatio: (ratio: number) => void;
  pointed?: boolean;
  until?: string;
}) {
  const [there, setThere] = useState(false);
  return (
    <span
      className="absolute inset-0 grid place-items-center"
      style={{ transform: `translate(${view.x * 100}%, ${view.y * 100}%) scale(${view.scale})` }}
    >
      <span
        className="relative block"
        {...(pointed && { "data-pointed": "" })}
        style={{ aspectRatio: String(ratio), width: `min(100cqw, calc(100cqh * ${ratio}))` }}
      >
        <img
          src={src}
          alt={name}
          onLoad={(e) => {
            setThere(true);
            onRatio(e.currentTarget.naturalWidth / Math.max(1, e.currentTarget.naturalHeight));
          }}
          draggable={false}
          className="h-full w-full object-contain select-none"
          style={{
            imageRendering: view.scale > 3 ? "pixelated" : "auto",
            ...(channel !== "All" && { filter: `url(#only-${channel})` }),
            ...(until && !there && { background: `url("${until}") center / 100% 100% no-repeat` }),
          }}
        />
        {pointed && <PlaceMarks scale={view.scale} />}
      </span>
    </span>
  );
}

/** Filters show one channel as grey. */
function Filters() {
  const row: Record<string, string> = { Red: "1 0 0 0 0", Green: "0 1 0 0 0", Blue: "0 0 1 0 0", Alpha: "0 0 0 1 0" };
  return (
    <svg width="0" height="0" className="absolute" aria-hidden>
      {Object.entries(row).map(([name, r]) => (
        <filter key={name} id={`only-${name}`} colorInterpolationFilters="sRGB">
          <feColorMatrix type="matrix" values={`${r} ${r} ${r} 0 0 0 0 1`} />
        </filter>
      ))}
    </svg>
  );
}
