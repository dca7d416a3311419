import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, ask, prefix, type Schemas } from "../../api/client";
import { endings } from "../../api/words.gen";
import { fieldClass } from "../../parts/Ask";
import { Trouble } from "../../parts/Trouble";
import { assetPath, When } from "../../parts/words";
import { useHere } from "../project/ProjectFrame";

type Hold = Schemas["Hold"];

const shown = 500;

/** Record is who held what, for how long, and how it ended. Its filters are in its address, so that it can be passed on. */
export function Record() {
  const here = useHere();
  const [params, setParams] = useSearchParams();
  const query = Object.fromEntries(["person", "path", "ending", "since"].flatMap((k) => (params.get(k) ? [[k, params.get(k)!]] : [])));
  const found = useQuery({
    queryKey: ["project", here.key, "locks", "record", query],
    queryFn: () => ask(api.GET("/projects/{project}/locks/record", { params: { path: { project: here.key }, query: { ...query, limit: shown } } })),
    placeholderData: (before) => before,
  });
  const members = useQuery({ queryKey: ["project", here.key, "members"], queryFn: () => ask(api.GET("/projects/{project}/members", { params: { path: { project: here.key } } })) });
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  };
  const holds = found.data?.holds ?? [];
  return (
    <>
      <form className="mb-4 flex flex-wrap items-end gap-3" onSubmit={(e) => e.preventDefault()} aria-label="Filters">
        <label>
          <span className="mb-1 block text-peat">Person</span>
          <select className={fieldClass} value={params.get("person") ?? ""} onChange={(e) => set("person", e.target.value)}>
            <option value="">anybody</option>
            {members.data?.members.map((m) => <option key={m.handle}>{m.handle}</option>)}
          </select>
        </label>
        <label>
          <span className="mb-1 block text-peat">Asset or folder</span>
          <input className={fieldClass} defaultValue={params.get("path") ?? ""} placeholder="levels" onChange={(e) => set("path", e.target.value.replace(/\/+$/, ""))} />
        </label>
        <label>
          <span className="mb-1 block text-peat">How it ended</span>
          <select className={fieldClass} value={params.get("ending") ?? ""} onChange={(e) => set("ending", e.target.value)}>
            <option value="">any way</option>
            {Object.entries(endings).map(([k, words]) => <option key={k} value={k}>{words}</option>)}
          </select>
        </label>
        <label>
          <span className="mb-1 block text-peat">From</span>
          <input className={fieldClass} type="date" value={params.get("since") ?? ""} onChange={(e) => set("since", e.target.value)} />
        </label>
        <a className="py-1.5" href={`${prefix}/projects/${here.key}/locks/record.csv?${new URLSearchParams(query)}`} download>As a spreadsheet (CSV)</a>
      </form>
      <Trouble error={found.error} />
      {found.data && holds.length === 0 && <p className="text-peat">Nothing fits.</p>}
      {holds.length > 0 && (
        <table className="w-full border-collapse text-left">
          <thead className="text-peat">
            <tr className="border-b border-line">
              <th className="py-1.5 pr-4 font-normal">Asset</th>
              <th className="py-1.5 pr-4 font-normal">Held by</th>
              <th className="py-1.5 pr-4 font-normal">Taken</th>
              <th className="py-1.5 pr-4 text-right font-normal">For</th>
              <th className="py-1.5 font-normal">How it ended</th>
            </tr>
          </thead>
          <tbody>
            {holds.map((h) => (
              <tr key={h.path + h.taken} className="border-b border-line align-top">
                <td className="py-2 pr-4"><Link to={assetPath(here.key, h.path)} className="font-medium break-all">{h.path}</Link>{h.note && <span className="block text-peat">{h.note}</span>}</td>
                <td className="py-2 pr-4">{h.person}<span className="block text-peat">{h.workspace}</span></td>
                <td className="py-2 pr-4"><When at={h.taken} /></td>
                <td className="py-2 pr-4 text-right whitespace-nowrap">{span(h.seconds)}</td>
                <td className="py-2"><Ending hold={h} project={here.key} /></td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {holds.length === shown && <p className="mt-2 text-peat">The latest {shown} are shown; the spreadsheet has all.</p>}
    </>
  );
}

function Ending({ hold, project }: { hold: Hold; project: string }) {
  return (
    <>
      {endings[hold.ending || "held"] ?? hold.ending}
      {hold.handoff ? <> as <Link to={`/p/${project}/handoffs/${hold.handoff}`}>h{hold.handoff}</Link></> : null}
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
