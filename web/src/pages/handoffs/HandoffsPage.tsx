import { useQuery } from "@tanstack/react-query";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { memo, useEffect, useRef, useState, type ReactNode } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ask, prefix, type Handoff } from "../../api/client";
import { assetKinds as kinds } from "../../api/words.gen";
import { fieldClass } from "../../parts/Ask";
import { Labels } from "../../parts/Labels";
import { Picture } from "../../parts/Picture";
import { Trouble } from "../../parts/Trouble";
import { firstLine, plural, size, When } from "../../parts/words";
import { usePins } from "../code/usePins";
import { useHere, type Here } from "../project/ProjectFrame";
import { filters, useTimeline, type Filters } from "./useTimeline";

/** HandoffsPage is the timeline. Its filters are in its address, so that they can be passed on. */
export function HandoffsPage() {
  const here = useHere();
  const [params, setParams] = useSearchParams();
  // An address may say anything: the service tells what is wrong with it.
  const wanted = Object.fromEntries(filters.flatMap((k) => (params.get(k) ? [[k, params.get(k)!]] : []))) as Filters;
  const list = useTimeline(here.key, wanted);
  const handoffs = list.data?.pages.flatMap((p) => p.handoffs) ?? [];
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  };
  return (
    <>
      <FilterForm here={here} wanted={wanted} set={set} onClear={() => setParams({}, { replace: true })} />
      <Trouble error={list.error} />
      {list.isSuccess && handoffs.length === 0 && <p className="text-peat">{Object.keys(wanted).length > 0 ? "No handoff fits." : "Nothing was handed off yet."}</p>}
      <Timeline here={here} handoffs={handoffs} onEnd={() => list.hasNextPage && !list.isFetching && void list.fetchNextPage()} />
      {handoffs.length > 0 && (
        <p className="mt-4 text-peat">
          <a href={`${prefix}/projects/${here.key}/handoffs.csv?${new URLSearchParams({ ...wanted })}`} download>As a spreadsheet (CSV)</a>
        </p>
      )}
    </>
  );
}

function FilterForm({ here, wanted, set, onClear }: { here: Here; wanted: Filters; set: (name: string, value: string) => void; onClear: () => void }) {
  const members = useQuery({ queryKey: ["project", here.key, "members"], queryFn: () => ask(api.GET("/projects/{project}/members", { params: { path: { project: here.key } } })) });
  const active = Object.keys(wanted).length > 0;
  const text = (name: keyof Filters, label: string, placeholder: string, width = "w-32") => (
    <Field label={label} className={width}>
      <Typed value={wanted[name] ?? ""} placeholder={placeholder} onChange={(v) => set(name, v)} />
    </Field>
  );
  return (
    <form className="mb-5 flex flex-wrap items-end gap-x-3 gap-y-2" onSubmit={(e) => e.preventDefault()} aria-label="Filters">
      <Field label="Person" className="w-32">
        <select className={fieldClass} value={wanted.author ?? ""} onChange={(e) => set("author", e.target.value)}>
          <option value="">anybody</option>
          {members.data?.members.map((m) => <option key={m.handle}>{m.handle}</option>)}
        </select>
      </Field>
      {text("path", "Folder or pattern", "levels, *.glb", "w-44")}
      <Field label="Kind" className="w-32">
        <select className={fieldClass} value={wanted.kind ?? ""} onChange={(e) => set("kind", e.target.value)}>
          <option value="">any kind</option>
          {kinds.map((k) => <option key={k}>{k}</option>)}
        </select>
      </Field>
      {text("text", "In the note", "rust", "w-36")}
      {text("task", "Task", "BRL-112", "w-28")}
      {text("stage", "Stage", "polish", "w-28")}
      <Field label="From"><input className={fieldClass} type="date" value={wanted.since ?? ""} onChange={(e) => set("since", e.target.value)} /></Field>
      <Field label="Up to"><input className={fieldClass} type="date" value={wanted.until ?? ""} onChange={(e) => set("until", e.target.value)} /></Field>
      {active && <button type="button" className="py-1.5 text-peat underline decoration-line underline-offset-3 hover:text-ink" onClick={onClear}>All handoffs</button>}
    </form>
  );
}

function Field({ label, className = "", children }: { label: string; className?: string; children: ReactNode }) {
  return (
    <label className={className}>
      <span className="mb-0.5 block text-xs text-peat">{label}</span>
      {children}
    </label>
  );
}

/** Typed tells what was typed once the fingers rest. */
function Typed({ value, placeholder, onChange }: { value: string; placeholder: string; onChange: (v: string) => void }) {
  const [text, setText] = useState(value);
  const told = useRef(value);
  useEffect(() => {
    if (value !== told.current) setText((told.current = value));
  }, [value]);
  useEffect(() => {
    if (text === told.current) return;
    const timer = setTimeout(() => onChange((told.current = text)), 300);
    return () => clearTimeout(timer);
  }, [text, onChange]);
  return <input className={fieldClass} value={text} placeholder={placeholder} onChange={(e) => setText(e.target.value)} />;
}

/** Timeline shows only the handoffs in view, however many there are. */
function Timeline({ here, handoffs, onEnd }: { here: Here; handoffs: Handoff[]; onEnd: () => void }) {
  const top = useRef<HTMLOListElement>(null);
  const pins = usePins(here.key).data?.commits;
  const [offset, setOffset] = useState(0);
  useEffect(() => setOffset(top.current?.offsetTop ?? 0), [handoffs.length]);
  const rows = useWindowVirtualizer({ count: handoffs.length, estimateSize: () => 68, overscan: 10, scrollMargin: offset, getItemKey: (i) => handoffs[i]!.number });
  const shown = rows.getVirtualItems();
  const last = shown.at(-1)?.index ?? 0;
  useEffect(() => {
    if (handoffs.length > 0 && last >= handoffs.length - 15) onEnd();
  }, [last, handoffs.length, onEnd]);
  return (
    <ol ref={top} className="relative border-l-2 border-line" style={{ height: rows.getTotalSize() }}>
      {shown.map((r) => {
        const h = handoffs[r.index]!;
        return (
          <li key={h.number} ref={rows.measureElement} data-index={r.index} className="absolute inset-x-0 top-0" style={{ transform: `translateY(${r.start - offset}px)` }}>
            <Entry here={here} handoff={h} pins={pins} />
          </li>
        );
      })}
    </ol>
  );
}

/** Entry stays as it is while one scrolls. */
const Entry = memo(function Entry({ here, handoff: h, pins }: { here: Here; handoff: Handoff; pins: { handoff: number; commit: string; subject: string }[] | undefined }) {
  const pinnedBy = pins?.filter((p) => p.handoff === h.number) ?? [];
  const drawn = h.assets.filter((a) => a.change !== "gone");
  return (
    <div className="relative grid grid-cols-[3.5rem_minmax(0,1fr)] gap-x-2 py-2.5 pl-5 md:grid-cols-[3.5rem_minmax(0,1fr)_auto_8.5rem]">
      <span aria-hidden className={`absolute top-5 -left-[5px] h-0.5 bg-copper ${h.milestones?.length ? "w-5" : "w-3"}`} />
      <span className="text-peat">h{h.number}</span>
      <span className="min-w-0">
        <Link to={`/p/${here.key}/handoffs/${h.number}`} className="font-medium">{firstLine(h.note)}</Link> <Labels handoff={h} pinnedBy={pinnedBy} />
        <span className="block text-peat">{h.author}, <When at={h.at} /></span>
      </span>
      <span className="flex gap-1 max-md:hidden" aria-hidden>
        {drawn.slice(0, 4).map((a) => <Picture key={a.path} project={here.key} path={a.now || a.path} version={a.version} edge={96} className="size-11 rounded-md" />)}
      </span>
      <span className="text-right text-peat max-md:col-start-2 max-md:text-left">
        {plural(h.count, "asset")}
        <span className="block max-md:inline max-md:before:content-[',_']">{size(h.size)}</span>
      </span>
    </div>
  );
});
