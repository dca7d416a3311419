import { memo, type ReactNode } from "react";
import { Link } from "react-router";
import { prefix, type Handoff } from "../../api/client";
import { useMembers } from "../../api/members";
import { assetKinds as kinds } from "../../api/words.gen";
import { useAddress } from "../../parts/address";
import { fieldClass } from "../../parts/Ask";
import { Labels } from "../../parts/Labels";
import { List } from "../../parts/List";
import { Picture } from "../../parts/Picture";
import { Trouble } from "../../parts/Trouble";
import { useTitle } from "../../parts/title";
import { Typed } from "../../parts/Typed";
import { firstLine, plural, size, When } from "../../parts/words";
import { usePins } from "../code/usePins";
import { useHere, type Here } from "../project/ProjectFrame";
import { filters, useTimeline, type Filters } from "./useTimeline";

/** HandoffsPage is the timeline. Its filters are in its address, so that they can be passed on. */
export function HandoffsPage() {
  const here = useHere();
  const [params, change] = useAddress();
  // An address may say anything: the service tells what is wrong with it.
  const wanted = Object.fromEntries(filters.flatMap((k) => (params.get(k) ? [[k, params.get(k)!]] : []))) as Filters;
  const list = useTimeline(here.key, wanted);
  const pins = usePins(here.key).data?.commits;
  useTitle("Handoffs");
  const set = (name: string, value: string) => change({ [name]: value });
  return (
    <>
      <FilterForm here={here} wanted={wanted} set={set} onClear={() => change(Object.fromEntries(filters.map((k) => [k, ""])))} />
      <Trouble error={list.error} />
      {list.total === 0 && (
        <p className="text-peat">{Object.keys(wanted).length > 0 ? "No handoff fits." : "Nothing was handed off yet."}</p>
      )}
      {(list.total ?? 0) > 0 && Object.keys(wanted).length > 0 && (
        <p role="status" className="mb-2 text-peat">
          {plural(list.total!, "handoff")}
        </p>
      )}
      <List
        rows={list}
        height={68}
        measured
        label="Timeline"
        className="border-l-2 border-line"
        row={(h) => <Entry here={here} handoff={h} pins={pins} />}
      />
      {(list.total ?? 0) > 0 && (
        <p className="mt-4 text-peat">
          <a href={`${prefix}/projects/${here.key}/handoffs.csv?${new URLSearchParams({ ...wanted })}`} download>
            As a spreadsheet (CSV)
          </a>
        </p>
      )}
    </>
  );
}

function FilterForm({
  here,
  wanted,
  set,
  onClear,
}: {
  here: Here;
  wanted: Filters;
  set: (name: string, value: string) => void;
  onClear: () => void;
}) {
  const members = useMembers(here.key);
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
          {members.data?.members.map((m) => (
            <option key={m.handle}>{m.handle}</option>
          ))}
        </select>
      </Field>
      {text("path", "Folder or pattern", "levels, *.glb", "w-44")}
      <Field label="Kind" className="w-32">
        <select className={fieldClass} value={wanted.kind ?? ""} onChange={(e) => set("kind", e.target.value)}>
          <option value="">any kind</option>
          {kinds.map((k) => (
            <option key={k}>{k}</option>
          ))}
        </select>
      </Field>
      {text("text", "In the note", "rust", "w-36")}
      {text("task", "Task", "BRL-112", "w-28")}
      {text("stage", "Stage", "polish", "w-28")}
      <Field label="From">
        <input className={fieldClass} type="date" value={wanted.since ?? ""} onChange={(e) => set("since", e.target.value)} />
      </Field>
      <Field label="Up to">
        <input className={fieldClass} type="date" value={wanted.until ?? ""} onChange={(e) => set("until", e.target.value)} />
      </Field>
      {active && (
        <button type="button" className="py-1.5 text-peat underline decoration-line underline-offset-3 hover:text-ink" onClick={onClear}>
          All handoffs
        </button>
      )}
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

/** Entry stays as it is while one scrolls. */
const Entry = memo(function Entry({
  here,
  handoff: h,
  pins,
}: {
  here: Here;
  handoff: Handoff;
  pins: { handoff: number; commit: string; subject: string }[] | undefined;
}) {
  const pinnedBy = pins?.filter((p) => p.handoff === h.number) ?? [];
  const drawn = h.assets.filter((a) => a.change !== "gone");
  return (
    <div className="relative grid grid-cols-[3.5rem_minmax(0,1fr)] gap-x-2 py-2.5 pl-5 md:grid-cols-[3.5rem_minmax(0,1fr)_auto_8.5rem]">
      <span aria-hidden className={`absolute top-5 -left-[5px] h-0.5 bg-copper ${h.milestones?.length ? "w-5" : "w-3"}`} />
      <span className="text-peat">h{h.number}</span>
      <span className="min-w-0">
        <Link to={`/p/${here.key}/handoffs/${h.number}`} className="font-medium">
          {firstLine(h.note)}
        </Link>{" "}
        <Labels handoff={h} pinnedBy={pinnedBy} />
        <span className="block text-peat">
          {h.author}, <When at={h.at} />
        </span>
      </span>
      <span className="flex gap-1 max-md:hidden" aria-hidden>
        {drawn.slice(0, 4).map((a) => (
          <Picture key={a.path} project={here.key} path={a.now || a.path} version={a.version} edge={96} className="size-11 rounded-md" />
        ))}
      </span>
      <span className="text-right text-peat max-md:col-start-2 max-md:text-left">
        {plural(h.count, "asset")}
        <span className="block max-md:inline max-md:before:content-[',_']">{size(h.size)}</span>
      </span>
    </div>
  );
});
