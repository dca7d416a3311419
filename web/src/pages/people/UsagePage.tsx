import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { api, ask, prefix, type Schemas } from "../../api/client";
import { useAddress } from "../../parts/address";
import { Choice } from "../../parts/Choice";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { size } from "../../parts/words";
import { useHere } from "../project/ProjectFrame";

type Usage = Schemas["Usage"];

const spans = ["14", "30", "90", "365"] as const;
const spanWords: Record<string, string> = { "14": "two weeks", "30": "a month", "90": "a quarter", "365": "a year" };

/** UsagePage is what a project takes: over time, of what, until when there is room, and what it costs. */
export function UsagePage() {
  const here = useHere();
  useTitle("Usage");
  const [params, set] = useAddress();
  const days = spans.find((d) => d === params.get("days")) ?? "30";
  const found = useQuery({
    queryKey: ["project", here.key, "usage", days],
    queryFn: () => ask(api.GET("/projects/{project}/usage", { params: { path: { project: here.key }, query: { days: Number(days) } } })),
  });
  const u = found.data;
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-4">
        <Choice label="Over" options={spans} value={days} onChange={(d) => set({ days: d === "30" ? "" : d })} show={(d) => spanWords[d]} />
        <a href={`${prefix}/projects/${here.key}/usage.csv?days=${days}`} download>
          As a spreadsheet (CSV)
        </a>
      </div>
      <Trouble error={found.error} />
      {u && <Taken usage={u} />}
    </>
  );
}

export function Taken({ usage: u }: { usage: Usage }) {
  return (
    <div className="space-y-8">
      <div className="space-y-1">
        <p className="text-lg">
          It takes <strong>{size(u.stored)}</strong> at the service
          {u.limit ? `, of at most ${size(u.limit)}` : "; no limit is set"}.
        </p>
        {u.limit ? <Bar share={u.stored / u.limit} /> : null}
        {u.forecasts.map((f) => (
          <p key={f.of}>{f.says}</p>
        ))}
        {u.forecasts.length === 0 && u.limit ? (
          <p className="text-peat">When it will be full can be said once it was measured for some days.</p>
        ) : null}
        {u.cost && (
          <p>
            These days cost {u.cost.past.toFixed(2)} {u.cost.currency}; the next 30 will cost about {u.cost.expected.toFixed(2)}{" "}
            {u.cost.currency}.
          </p>
        )}
      </div>
      {u.days.length > 1 && <Chart usage={u} />}
      <Days list={u.days} />
      <div className="grid gap-x-12 gap-y-8 lg:grid-cols-2">
        {(["folder", "kind", "person", "branch"] as const).map((part) => (
          <Parts key={part} part={part} list={u.parts.filter((p) => p.part === part)} />
        ))}
      </div>
    </div>
  );
}

function Bar({ share }: { share: number }) {
  const shown = Math.min(1, share);
  return (
    <span
      role="progressbar"
      aria-label="Share of the limit"
      aria-valuenow={Math.round(shown * 100)}
      className="block h-2 max-w-xl overflow-hidden rounded-full bg-stone"
    >
      <span className={`block h-full ${share >= 0.95 ? "bg-rust" : "bg-ice"}`} style={{ width: `${shown * 100}%` }} />
    </span>
  );
}

const color = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

/** Chart is what was stored, day by day, with the limit and where it goes from here. */
function Chart({ usage: u }: { usage: Usage }) {
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const el = place.current;
    if (!el) return;
    const day = (d: Schemas["UsageDay"]) => Date.parse(`${d.day}T12:00:00Z`) / 1000;
    const at = u.days.map(day);
    const stored: (number | null)[] = u.days.map((d) => d.stored);
    const present: (number | null)[] = u.days.map((d) => d.present);
    const ahead: (number | null)[] = u.days.map(() => null);
    const f = u.forecasts[0];
    if (f && at.length > 0) {
      // A third of the span more, as it grows now.
      ahead[ahead.length - 1] = u.stored;
      const more = Math.max(3, Math.round((at.at(-1)! - at[0]!) / 86400 / 3));
      for (let i = 1; i <= more; i++) {
        at.push(at[u.days.length - 1]! + i * 86400);
        stored.push(null);
        present.push(null);
        ahead.push(Math.max(0, u.stored + f.per_day * i));
      }
    }
    const data: uPlot.AlignedData = [at, stored, present, ahead, ...(u.limit ? [at.map(() => u.limit!)] : [])];
    const line = (label: string, stroke: string, dash?: number[]): uPlot.Series => ({
      label,
      stroke,
      width: 2,
      ...(dash && { dash }),
      points: { show: false },
      value: (_, v) => (v === null ? "" : size(v)),
    });
    const axis = {
      stroke: color("--color-peat"),
      grid: { stroke: color("--color-line"), width: 1 },
      ticks: { show: false },
      font: `13px ${getComputedStyle(el).fontFamily}`,
    };
    const plot = new uPlot(
      {
        width: el.clientWidth,
        height: 280,
        cursor: { drag: { x: false, y: false } },
        scales: { y: { range: (_, __, most) => [0, most * 1.08] } },
        axes: [
          {
            ...axis,
            values: (_, list) => list.map((t) => new Date(t * 1000).toLocaleDateString("en", { day: "numeric", month: "short" })),
          },
          { ...axis, size: 80, values: (_, list) => list.map((v) => size(v)) },
        ],
        series: [
          {
            label: "\u00a0",
            value: (_, t) => (t === null ? "" : new Date(t * 1000).toLocaleDateString("en", { day: "numeric", month: "long" })),
          },
          line("at the service", color("--color-copper")),
          line("newest files", color("--color-ice")),
          line("as it grows now", color("--color-copper"), [4, 5]),
          ...(u.limit ? [line("limit", color("--color-rust"), [10, 4])] : []),
        ],
      },
      data,
      el,
    );
    const watch = new ResizeObserver(() => plot.setSize({ width: el.clientWidth, height: 280 }));
    watch.observe(el);
    return () => {
      watch.disconnect();
      plot.destroy();
    };
  }, [u]);
  return <div ref={place} role="img" aria-label="What it took, day by day; the table below has the same" />;
}

function Days({ list }: { list: Schemas["UsageDay"][] }) {
  if (list.length === 0) return <p className="text-peat">Nothing was measured yet: that is done every hour.</p>;
  return (
    <details open={list.length <= 14}>
      <summary className="cursor-default font-medium">Day by day</summary>
      <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="Day by day">
        <table className="mt-2 w-full border-collapse text-right tabular-nums">
          <thead className="text-peat">
            <tr className="border-b border-line">
              {["Day", "At the service", "Newest files", "Those before", "Assets", "Brought", "Fetched"].map((w) => (
                <th key={w} className="px-2 py-1 font-normal first:pl-0 first:text-left">
                  {w}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {list.toReversed().map((d) => (
              <tr key={d.day} className="border-b border-line">
                <td className="py-1 pr-2 text-left">
                  {new Date(`${d.day}T12:00:00Z`).toLocaleDateString("en", { day: "numeric", month: "short", year: "numeric" })}
                </td>
                <td className="px-2 py-1">{size(d.stored)}</td>
                <td className="px-2 py-1">{size(d.present)}</td>
                <td className="px-2 py-1">{size(d.past)}</td>
                <td className="px-2 py-1">{d.assets.toLocaleString("en")}</td>
                <td className="px-2 py-1">{size(d.brought)}</td>
                <td className="px-2 py-1">{size(d.fetched)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </details>
  );
}

const partWords = { folder: "By folder", kind: "By kind", person: "By person", branch: "By branch" };

/** Parts is what it is of, as files that people have: the newest, and those before. */
function Parts({ part, list }: { part: keyof typeof partWords; list: Schemas["UsagePart"][] }) {
  if (list.length === 0) return null;
  const most = Math.max(1, ...list.map((p) => p.present + p.past));
  return (
    <section aria-labelledby={`by-${part}`}>
      <h2 id={`by-${part}`} className="mb-1 text-base">
        {partWords[part]} <span className="font-normal text-peat">newest files, and those before</span>
      </h2>
      <ul>
        {list.slice(0, 10).map((p) => (
          <li key={p.name} className="py-1">
            <span className="flex gap-3">
              <span className="min-w-0 flex-1 wrap-anywhere">{p.name}</span>
              <span className="text-peat tabular-nums">
                {size(p.present)} + {size(p.past)}
              </span>
            </span>
            <span className="flex h-1.5 bg-stone" aria-hidden>
              <span className="bg-ice" style={{ width: `${(p.present / most) * 100}%` }} />
              <span className="bg-copper" style={{ width: `${(p.past / most) * 100}%` }} />
            </span>
          </li>
        ))}
      </ul>
      {list.length > 10 && <p className="text-peat">and {(list.length - 10).toLocaleString("en")} more</p>}
    </section>
  );
}
