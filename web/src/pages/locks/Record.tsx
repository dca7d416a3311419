import { memo } from "react";
import { Link } from "react-router";
import { api, ask, prefix, type Schemas } from "../../api/client";
import { useMembers } from "../../api/members";
import { useRows } from "../../api/rows";
import { endings } from "../../api/words.gen";
import { useAddress } from "../../parts/address";
import { fieldClass } from "../../parts/Ask";
import { List } from "../../parts/List";
import { Trouble } from "../../parts/Trouble";
import { useTitle } from "../../parts/title";
import { Typed } from "../../parts/Typed";
import { assetPath, plural, When } from "../../parts/words";
import { useHere } from "../project/ProjectFrame";

type Hold = Schemas["Hold"];

type Answer = Schemas["Record"];

const columns = "grid gap-x-4 gap-y-1 lg:grid-cols-[minmax(14rem,2fr)_minmax(8rem,1fr)_9rem_5rem_minmax(10rem,1.5fr)]";

/** Record is who held what, for how long, and how it ended. Its filters are in its address, so that it can be passed on. */
export function Record() {
  const here = useHere();
  const [params, change] = useAddress();
  useTitle("Record of locks");
  const query = Object.fromEntries(["person", "path", "ending", "since"].flatMap((k) => (params.get(k) ? [[k, params.get(k)!]] : [])));
  const found = useRows<Hold, Answer>({
    queryKey: ["project", here.key, "locks", "record", query],
    fetch: (skip, limit) =>
      ask(api.GET("/projects/{project}/locks/record", { params: { path: { project: here.key }, query: { ...query, skip, limit } } })),
    rows: (a) => a.holds,
    total: (a) => a.total,
  });
  const members = useMembers(here.key);
  const set = (name: string, value: string) => change({ [name]: value });
  return (
    <>
      <form className="mb-4 flex flex-wrap items-end gap-3" onSubmit={(e) => e.preventDefault()} aria-label="Filters">
        <label>
          <span className="mb-1 block text-peat">Person</span>
          <select className={fieldClass} value={params.get("person") ?? ""} onChange={(e) => set("person", e.target.value)}>
            <option value="">anybody</option>
            {members.data?.members.map((m) => (
              <option key={m.handle}>{m.handle}</option>
            ))}
          </select>
        </label>
        <label>
          <span className="mb-1 block text-peat">Asset or folder</span>
          <Typed value={params.get("path") ?? ""} placeholder="levels" onChange={(v) => set("path", v.replace(/\/+$/, ""))} />
        </label>
        <label>
          <span className="mb-1 block text-peat">How it ended</span>
          <select className={fieldClass} value={params.get("ending") ?? ""} onChange={(e) => set("ending", e.target.value)}>
            <option value="">any way</option>
            {Object.entries(endings).map(([k, words]) => (
              <option key={k} value={k}>
                {words}
              </option>
            ))}
          </select>
        </label>
        <label>
          <span className="mb-1 block text-peat">From</span>
          <input className={fieldClass} type="date" value={params.get("since") ?? ""} onChange={(e) => set("since", e.target.value)} />
        </label>
        <a className="py-1.5" href={`${prefix}/projects/${here.key}/locks/record.csv?${new URLSearchParams(query)}`} download>
          As a spreadsheet (CSV)
        </a>
      </form>
      <Trouble error={found.error} />
      {found.total === 0 && <p className="text-peat">Nothing fits.</p>}
      {(found.total ?? 0) > 0 && (
        <>
          <p role="status" className="mb-2 text-peat">
            {plural(found.total!, "entry", "entries")}
          </p>
          <List
            rows={found}
            height={64}
            measured
            role="table"
            label="Record"
            row={(h) => <Row hold={h} project={here.key} />}
            head={
              <div role="rowgroup">
                <div role="row" className={`${columns} border-b border-line py-1.5 text-peat max-lg:hidden`}>
                  {["Asset", "Held by", "Taken"].map((w) => (
                    <span key={w} role="columnheader">
                      {w}
                    </span>
                  ))}
                  <span role="columnheader" className="text-right">
                    For
                  </span>
                  <span role="columnheader">How it ended</span>
                </div>
              </div>
            }
          />
        </>
      )}
    </>
  );
}

const Row = memo(function Row({ hold: h, project }: { hold: Hold; project: string }) {
  return (
    <div role="presentation" className={`${columns} border-b border-line py-2`}>
      <span role="cell">
        <Link to={assetPath(project, h.path)} className="font-medium break-all">
          {h.path}
        </Link>
        {h.note && <span className="block text-peat">{h.note}</span>}
      </span>
      <span role="cell">
        {h.person}
        <span className="block text-peat">{h.workspace}</span>
      </span>
      <span role="cell">
        <When at={h.taken} />
      </span>
      <span role="cell" className="whitespace-nowrap lg:text-right">
        {span(h.seconds)}
      </span>
      <span role="cell">
        <Ending hold={h} project={project} />
      </span>
    </div>
  );
});

function Ending({ hold, project }: { hold: Hold; project: string }) {
  return (
    <>
      {endings[hold.ending || "held"] ?? hold.ending}
      {hold.handoff ? (
        <>
          {" "}
          as <Link to={`/p/${project}/handoffs/${hold.handoff}`}>h{hold.handoff}</Link>
        </>
      ) : null}
      {hold.ended_by && <> by {hold.ended_by}</>}
      {hold.word && hold.ending === "overridden" && <span className="block text-peat">“{hold.word}”</span>}
    </>
  );
}

/** span is a length of time for people. */
export function span(seconds: number): string {
  if (seconds < 60) return `${seconds} s`;
  if (seconds < 7200) return `${Math.floor(seconds / 60)} min`;
  if (seconds < 48 * 3600) return `${Math.floor(seconds / 3600)} h`;
  return `${Math.floor(seconds / 86400)} days`;
}
