import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, ask, type Schemas } from "../../api/client";
import { Labels } from "../../parts/Labels";
import { Picture } from "../../parts/Picture";
import { Trouble } from "../../parts/Trouble";
import { assetPath, plural, size, When } from "../../parts/words";
import { usePins } from "../code/usePins";
import { useHere, type Here } from "../project/ProjectFrame";

export function HandoffPage() {
  const here = useHere();
  const number = useParams()["number"]!;
  const found = useQuery({
    queryKey: ["project", here.key, "handoff", number],
    queryFn: () => ask(api.GET("/projects/{project}/handoffs/{number}", { params: { path: { project: here.key, number } } })),
  });
  const pins = usePins(here.key).data?.commits.filter((p) => String(p.handoff) === number) ?? [];
  const h = found.data;
  if (!h) return <Trouble error={found.error} />;
  return (
    <>
      <p className="text-peat">
        <Link to={`/p/${here.key}/handoffs`}>Handoffs</Link> / h{h.number}
      </p>
      <h1 className="mt-1 max-w-prose whitespace-pre-line">{h.note}</h1>
      <p className="mt-2 mb-6 text-peat">
        {h.author}, <When at={h.at} />, {plural(h.count, "asset")}, {size(h.size)} <Labels handoff={{ ...h, commit: "" }} />
        {h.commit && <span className="block">Brought in from the git history: commit <code className="break-all">{h.commit}</code></span>}
        {pins.map((p) => (
          <span key={p.commit} className="block">
            The code goes with it since <Link to={`/p/${here.key}/code?to=${p.commit}`}>commit <code>{p.commit.slice(0, 10)}</code></Link> by {p.author}: {p.subject}
          </span>
        ))}
      </p>
      <ul className="grid grid-cols-[repeat(auto-fill,minmax(min(100%,24rem),1fr))] gap-x-6 gap-y-8">
        {h.assets.map((a) => (
          <li key={a.path}>
            <Change here={here} change={a} />
          </li>
        ))}
      </ul>
    </>
  );
}

/** Change shows what a handoff did to one asset: before and after, side by side. */
function Change({ here, change }: { here: Here; change: Schemas["HandoffAsset"] }) {
  const before = change.change !== "new" && change.before > 0;
  const after = change.change !== "gone";
  return (
    <>
      <Link to={`${assetPath(here.key, change.path)}?version=${change.version}`} className="block no-underline">
        <span className={`grid gap-0.5 overflow-hidden rounded-lg ${before && after ? "grid-cols-2" : ""}`}>
          {before && <Side here={here} change={change} version={change.before} word="before" />}
          {after && <Side here={here} change={change} version={change.version} word={before ? "after" : "new"} />}
        </span>
      </Link>
      <p className="mt-1.5">
        <Link to={assetPath(here.key, change.path)} className="font-medium break-all">{change.path}</Link>
        <span className="block text-peat">
          {change.change}{change.moved_from && <> from {change.moved_from}</>}, v{change.version}{after && <>, {size(change.size)}</>}
        </span>
      </p>
    </>
  );
}

function Side({ here, change, version, word }: { here: Here; change: Schemas["HandoffAsset"]; version: number; word: string }) {
  return (
    <span className="relative block">
      <Picture project={here.key} path={change.path} version={version} edge={320} className="h-48 w-full" />
      <span className="absolute bottom-1.5 left-1.5 rounded-md bg-deep/85 px-1.5 text-xs text-ink">{word} v{version}</span>
    </span>
  );
}
