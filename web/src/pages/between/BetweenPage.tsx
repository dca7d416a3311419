import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, ask, prefix, type Handoff, type Schemas } from "../../api/client";
import { fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Picture } from "../../parts/Picture";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { assetPath, comparePath, grown, plural, size, When } from "../../parts/words";
import { useMilestones } from "../milestones/MilestonesPage";
import { useHere, type Here } from "../project/ProjectFrame";

type Between = Schemas["Between"];

/** BetweenPage is what changed between two states, for somebody who was not there: by folder, kind and person, then picture by picture. */
export function BetweenPage() {
  useTitle("Between two states");
  const here = useHere();
  const [params, setParams] = useSearchParams();
  const milestones = useMilestones(here.key);
  const list = milestones.data?.milestones ?? [];
  const to = params.get("to") || "newest";
  const from = params.get("from") || list.find((m) => m.name !== to)?.name || "h1";
  const found = useInfiniteQuery({
    queryKey: ["project", here.key, "between", from, to],
    enabled: here.project.handoffs > 0 && (params.has("from") || !milestones.isPending),
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/projects/{project}/between", {
          params: { path: { project: here.key }, query: { from, to, limit: 200, ...(pageParam && { after: pageParam }) } },
        }),
      ),
    getNextPageParam: (p) => p.next,
  });
  const set = (name: string, value: string) => setParams({ from, to, [name]: value }, { replace: true });
  const first = found.data?.pages[0];
  const assets = found.data?.pages.flatMap((p) => p.assets) ?? [];
  return (
    <>
      <form className="mb-6 flex flex-wrap items-end gap-3" aria-label="Which states" onSubmit={(e) => e.preventDefault()}>
        <State label="From" value={from} names={list.map((m) => m.name)} onChange={(v) => set("from", v)} />
        <State label="to" value={to} names={["newest", ...list.map((m) => m.name)]} onChange={(v) => set("to", v)} />
        <Button kind="quiet" onClick={() => setParams({ from: to, to: from }, { replace: true })}>
          The other way round
        </Button>
        {first && (
          <a className="py-1.5 text-peat" href={`${prefix}/projects/${here.key}/between.csv?${new URLSearchParams({ from, to })}`} download>
            As a spreadsheet (CSV)
          </a>
        )}
      </form>
      <Trouble error={found.error} />
      {first && <Summary here={here} between={first} />}
      {first && assets.length > 0 && (
        <>
          <h2 className="mt-8 mb-3">Asset by asset</h2>
          <ul className="grid grid-cols-[repeat(auto-fill,minmax(min(100%,22rem),1fr))] gap-x-6 gap-y-3">
            {assets.map((a) => (
              <li key={a.path}>
                <Change here={here} change={a} />
              </li>
            ))}
          </ul>
          {found.hasNextPage && (
            <Button className="mt-4" disabled={found.isFetching} onClick={() => void found.fetchNextPage()}>
              More of them
            </Button>
          )}
        </>
      )}
    </>
  );
}

function State({ label, value, names, onChange }: { label: string; value: string; names: string[]; onChange: (v: string) => void }) {
  return (
    <label>
      <span className="mb-1 block text-peat">{label}</span>
      <input
        className={`${fieldClass} w-52`}
        list={`states-${label}`}
        defaultValue={value}
        key={value}
        placeholder="h40, a milestone, a day"
        onBlur={(e) => e.target.value && e.target.value !== value && onChange(e.target.value)}
        onKeyDown={(e) => e.key === "Enter" && e.currentTarget.value && onChange(e.currentTarget.value)}
      />
      <datalist id={`states-${label}`}>
        {names.map((n) => (
          <option key={n} value={n} />
        ))}
      </datalist>
    </label>
  );
}

const named = (h: Handoff) => (h.milestones?.length ? h.milestones.join(", ") : h.number > 0 ? `h${h.number}` : "the start");

function Summary({ here, between }: { here: Here; between: Between }) {
  const { total } = between;
  const n = total.new + total.edited + total.moved + total.gone;
  const handoffs = between.people.reduce((sum, p) => sum + p.handoffs, 0);
  const end = (h: Handoff) =>
    h.number > 0 ? (
      <Link to={`/p/${here.key}/handoffs/${h.number}`} className="font-semibold">
        {named(h)}
      </Link>
    ) : (
      <strong>{named(h)}</strong>
    );
  return (
    <>
      <p className="max-w-prose text-lg">
        {between.to.number < between.from.number ? "Going back from " : "From "}
        {end(between.from)} to {end(between.to)}
        {between.from.number > 0 && (
          <span className="text-peat">
            {" "}
            (<When at={between.from.at} /> to <When at={between.to.at} />)
          </span>
        )}
        :{" "}
        {n === 0 ? (
          "nothing is different."
        ) : (
          <>
            {plural(n, "asset")} changed in {plural(handoffs, "handoff")} by {between.people.map((p) => p.person).join(", ")}. {total.new}{" "}
            new, {total.edited} edited, {total.moved} moved, {total.gone} gone; {grown(total.size - total.size_before)}.
          </>
        )}
      </p>
      {n > 0 && (
        <div className="mt-5 grid gap-x-10 gap-y-6 lg:grid-cols-3">
          <Tallies
            title="By folder"
            list={between.folders}
            named={(t) => (t.name ? <Link to={`/p/${here.key}/assets/${encodeURIComponent(t.name)}`}>{t.name}</Link> : "at the root")}
          />
          <Tallies title="By kind" list={between.kinds} named={(t) => t.name} />
          <table className="h-fit w-full border-collapse text-left">
            <caption className="mb-1 text-left font-semibold">By person</caption>
            <thead className="text-xs text-peat">
              <tr className="border-b border-line">
                <th className="py-1 font-normal">Who</th>
                <th className="py-1 text-right font-normal">Handoffs</th>
                <th className="py-1 text-right font-normal">Versions</th>
              </tr>
            </thead>
            <tbody>
              {between.people.map((p) => (
                <tr key={p.person} className="border-b border-line/60">
                  <td className="py-1">
                    <Link to={`/p/${here.key}/handoffs?author=${encodeURIComponent(p.person)}`}>{p.person}</Link>
                  </td>
                  <td className="py-1 text-right">{p.handoffs}</td>
                  <td className="py-1 text-right">{p.versions}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  );
}

function Tallies({ title, list, named }: { title: string; list: Schemas["Tally"][]; named: (t: Schemas["Tally"]) => React.ReactNode }) {
  const columns = [
    ["new", "New"],
    ["edited", "Edited"],
    ["moved", "Moved"],
    ["gone", "Gone"],
  ] as const;
  return (
    <table className="h-fit w-full border-collapse text-left">
      <caption className="mb-1 text-left font-semibold">{title}</caption>
      <thead className="text-xs text-peat">
        <tr className="border-b border-line">
          <th className="py-1 font-normal">
            <span className="sr-only">Name</span>
          </th>
          {columns.map(([k, word]) => (
            <th key={k} className="py-1 text-right font-normal">
              {word}
            </th>
          ))}
          <th className="py-1 text-right font-normal">Grew</th>
        </tr>
      </thead>
      <tbody>
        {list.map((t) => (
          <tr key={t.name} className="border-b border-line/60">
            <td className="py-1">{named(t)}</td>
            {columns.map(([k]) => (
              <td key={k} className="py-1 text-right">
                {t[k] || ""}
              </td>
            ))}
            <td className="py-1 text-right text-peat">{grown(t.size - t.size_before)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Change({ here, change: a }: { here: Here; change: Schemas["HandoffAsset"] }) {
  const now = a.now || a.path;
  const both = a.before > 0 && a.version > 0 && a.version !== a.before;
  const address = both
    ? comparePath(here.key, now, a.before, now, a.version)
    : `${assetPath(here.key, now)}?version=${a.version || a.before}`;
  return (
    <Link to={address} className="flex gap-3 no-underline">
      <span className="flex shrink-0 gap-0.5">
        {a.before > 0 && a.change !== "moved" && (
          <Picture project={here.key} path={now} version={a.before} edge={96} className="size-14 rounded-md" />
        )}
        {a.version > 0 && <Picture project={here.key} path={now} version={a.version} edge={96} className="size-14 rounded-md" />}
      </span>
      <span className="min-w-0">
        <span className="font-medium break-all">{a.path}</span>
        <span className="block text-peat">
          {a.change}
          {a.moved_from && ` from ${a.moved_from}`}
          {both && `, v${a.before} to v${a.version}`}
          {a.version > 0 && `, ${size(a.size)}`}
          {both && a.size !== (a.size_before ?? 0) && ` (${grown(a.size - (a.size_before ?? 0))})`}
        </span>
      </span>
    </Link>
  );
}
