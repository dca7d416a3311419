import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, prefix, type Schemas } from "../../api/client";
import { useMembers } from "../../api/members";
import { recordSubjects } from "../../api/words.gen";
import { useAddress } from "../../parts/address";
import { fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";
import { useTitle } from "../../parts/title";
import { Typed } from "../../parts/Typed";
import { assetPath, When } from "../../parts/words";
import { useHere } from "../project/ProjectFrame";

const filters = ["person", "about", "path", "since", "until"] as const;

/** RecordPage is everything that was done in a project. Its filters are in its address, so that it can be passed on. */
export function RecordPage() {
  const here = useHere();
  const [params, set] = useAddress();
  useTitle("Record");
  const members = useMembers(here.key);
  const query = Object.fromEntries(filters.flatMap((k) => (params.get(k) ? [[k, params.get(k)!]] : [])));
  const found = useInfiniteQuery({
    queryKey: ["project", here.key, "deeds", query],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/projects/{project}/record", {
          params: { path: { project: here.key }, query: { ...query, limit: 100, ...(pageParam > 0 && { before: pageParam }) } },
        }),
      ),
    getNextPageParam: (page) => page.next || undefined,
  });
  const list = (found.data?.pages ?? []).flatMap((p) => p.record);
  return (
    <>
      <form className="mb-4 flex flex-wrap items-end gap-3" onSubmit={(e) => e.preventDefault()} aria-label="Filters">
        <label>
          <span className="mb-1 block text-peat">Person</span>
          <select className={fieldClass} value={params.get("person") ?? ""} onChange={(e) => set({ person: e.target.value })}>
            <option value="">anybody</option>
            {members.data?.members.map((m) => (
              <option key={m.handle}>{m.handle}</option>
            ))}
          </select>
        </label>
        <label>
          <span className="mb-1 block text-peat">About</span>
          <select className={fieldClass} value={params.get("about") ?? ""} onChange={(e) => set({ about: e.target.value })}>
            <option value="">anything</option>
            {recordSubjects.map((s) => (
              <option key={s}>{s}</option>
            ))}
          </select>
        </label>
        <label>
          <span className="mb-1 block text-peat">Asset or folder</span>
          <Typed value={params.get("path") ?? ""} placeholder="levels" onChange={(v) => set({ path: v.replace(/\/+$/, "") })} />
        </label>
        <label>
          <span className="mb-1 block text-peat">From</span>
          <input className={fieldClass} type="date" value={params.get("since") ?? ""} onChange={(e) => set({ since: e.target.value })} />
        </label>
        <label>
          <span className="mb-1 block text-peat">Up to</span>
          <input className={fieldClass} type="date" value={params.get("until") ?? ""} onChange={(e) => set({ until: e.target.value })} />
        </label>
        <a className="py-1.5" href={`${prefix}/projects/${here.key}/record.csv?${new URLSearchParams(query)}`} download>
          As a spreadsheet (CSV)
        </a>
      </form>
      {!here.mayLead && <p className="mb-3 text-peat">Who is let in, and by what, is for leads.</p>}
      <Trouble error={found.error} />
      {found.isSuccess && list.length === 0 && <p className="text-peat">Nothing fits.</p>}
      <ul aria-label="Record">
        {list.map((d) => (
          <Deed key={d.id} project={here.key} deed={d} />
        ))}
      </ul>
      {found.hasNextPage && (
        <Button className="mt-4" disabled={found.isFetchingNextPage} onClick={() => void found.fetchNextPage()}>
          What was before
        </Button>
      )}
    </>
  );
}

/** Linked is a text in which one word leads somewhere. */
function Linked({ text, word, to }: { text: string; word: string; to: string }) {
  const at = word ? text.indexOf(word) : -1;
  if (at < 0) return text;
  return (
    <>
      {text.slice(0, at)}
      <Link to={to}>{word}</Link>
      {text.slice(at + word.length)}
    </>
  );
}

function Deed({ project, deed: d }: { project: string; deed: Schemas["Deed"] }) {
  const path = d.paths?.length === 1 ? d.paths[0]! : "";
  const word = d.handoff ? `h${d.handoff}` : path;
  const to = d.handoff ? `/p/${project}/handoffs/${d.handoff}` : assetPath(project, path);
  return (
    <li className="grid gap-x-6 border-b border-line py-2 sm:grid-cols-[9rem_minmax(0,1fr)]">
      <span className="text-peat">
        <When at={d.at} />
      </span>
      <span className="wrap-anywhere">
        <Linked text={d.text} word={word} to={to} />
      </span>
    </li>
  );
}
