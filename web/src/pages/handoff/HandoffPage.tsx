import { memo, useState, useSyncExternalStore } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, archiveAddress, ask, type Handoff, type Schemas } from "../../api/client";
import { useRows } from "../../api/rows";
import { Button } from "../../parts/Button";
import { GoBack, type Back } from "../../parts/GoBack";
import { Labels } from "../../parts/Labels";
import { List } from "../../parts/List";
import { NameState } from "../../parts/NameState";
import { Picture } from "../../parts/Picture";
import { Trouble } from "../../parts/Trouble";
import { useTitle } from "../../parts/title";
import { assetPath, comparePath, firstLine, grown, plural, size, When } from "../../parts/words";
import { AskToLook, Reviews } from "../review/Reviews";
import { usePins } from "../code/usePins";
import { useHere, type Here } from "../project/ProjectFrame";

export function HandoffPage() {
  const here = useHere();
  const number = useParams()["number"]!;
  const [params] = useSearchParams();
  const found = useRows<Schemas["HandoffAsset"], Handoff>({
    queryKey: ["project", here.key, "handoff", number],
    fetch: (skip, limit) =>
      ask(api.GET("/projects/{project}/handoffs/{number}", { params: { path: { project: here.key, number }, query: { skip, limit } } })),
    rows: (h) => h.assets,
    total: (h) => h.count,
  });
  const pins = usePins(here.key).data?.commits.filter((p) => String(p.handoff) === number) ?? [];
  const wide = useWide();
  const h = found.first;
  useTitle(h ? `h${h.number} ${firstLine(h.note)}` : `h${number}`);
  if (!h) return <Trouble error={found.error} />;
  const columns = wide >= 1200 ? 3 : wide >= 860 ? 2 : 1;
  return (
    <>
      <p className="text-peat">
        <Link to={`/p/${here.key}/handoffs`}>Handoffs</Link> / h{h.number}
      </p>
      <h1 className="mt-1 max-w-prose whitespace-pre-line">{h.note}</h1>
      <p className="mt-2 mb-6 text-peat">
        <Link to={`/p/${here.key}/handoffs?author=${encodeURIComponent(h.author)}`}>{h.author}</Link>, <When at={h.at} />,{" "}
        {plural(h.count, "asset")}, {size(h.size)} <Labels handoff={{ ...h, commit: "" }} />
        {h.commit && (
          <span className="block">
            Brought in from the git history: commit <code className="break-all">{h.commit}</code>
          </span>
        )}
        {pins.map((p) => (
          <span key={p.commit} className="block">
            The code goes with it since{" "}
            <Link to={`/p/${here.key}/code?to=${p.commit}`}>
              commit <code>{p.commit.slice(0, 10)}</code>
            </Link>{" "}
            by {p.author}: {p.subject}
          </span>
        ))}
      </p>
      <Doings here={here} handoff={h} />
      {h.count > few && (
        <p className="mb-3 text-peat">
          {params.get("view") === "pictures" ? (
            <Link to="." replace>
              As rows
            </Link>
          ) : (
            <Link to="?view=pictures" replace>
              As pictures, before and after
            </Link>
          )}
        </p>
      )}
      {h.count > few && params.get("view") !== "pictures" ? (
        <List
          key="rows"
          rows={found}
          height={56}
          label="What changed"
          className="border-t border-line"
          row={(a) => <Line here={here} change={a} />}
        />
      ) : (
        <List
          key={columns}
          rows={found}
          height={292}
          columns={columns}
          label="What changed"
          row={(a) => (
            <div className="pr-6">
              <Change here={here} change={a} />
            </div>
          )}
        />
      )}
      <Reviews here={here} of={{ handoff: h.number }} />
    </>
  );
}

/** Up to so many changes are shown as pictures right away. */
const few = 60;

/** useWide is how wide the window is. */
const useWide = () =>
  useSyncExternalStore(
    (l) => {
      addEventListener("resize", l);
      return () => removeEventListener("resize", l);
    },
    () => innerWidth,
  );

/** Line is what a handoff did to one asset, in a row. */
const Line = memo(function Line({ here, change: a }: { here: Here; change: Schemas["HandoffAsset"] }) {
  const now = a.now || a.path;
  const both = a.change !== "new" && a.change !== "gone" && a.before > 0;
  return (
    <div className="flex h-full items-center gap-3 border-b border-line/60">
      <Picture
        project={here.key}
        path={now}
        version={a.change === "gone" ? a.before : a.version}
        edge={96}
        className="size-11 shrink-0 rounded-md"
      />
      <span className="min-w-0 flex-1 truncate">
        <Link
          to={both ? comparePath(here.key, now, a.before, now, a.version) : `${assetPath(here.key, now)}?version=${a.version}`}
          className="font-medium"
        >
          {a.path}
        </Link>
      </span>
      <span className="shrink-0 text-peat">
        {a.change}, v{a.version}
        {a.change !== "gone" && `, ${size(a.size)}`}
      </span>
    </div>
  );
});

/** Doings are what one may do with the state that a handoff led to, and with the handoff itself. */
function Doings({ here, handoff: h }: { here: Here; handoff: Handoff }) {
  const [back, setBack] = useState<{ title: string; back: Back }>();
  const [naming, setNaming] = useState(false);
  const [asking, setAsking] = useState(false);
  const state = `h${h.number}`;
  return (
    <p className="mb-6 flex flex-wrap items-center gap-x-5 gap-y-2">
      <Link to={`/p/${here.key}/assets?at=${state}`}>The project as it was then</Link>
      {h.parents.length > 0 && <Link to={`/p/${here.key}/handoffs/between?from=${state}&to=newest`}>What came behind it</Link>}
      <a href={archiveAddress(here.key, state, "", "zip")} download>
        All of it as a ZIP file
      </a>
      {here.maySend && (
        <span className="flex flex-wrap gap-2">
          <Button onClick={() => setNaming(true)}>Name it</Button>
          <Button onClick={() => setAsking(true)}>Ask people to look</Button>
          <Button onClick={() => setBack({ title: `Undo ${state}?`, back: { without: h.number } })}>Undo this handoff</Button>
          {h.number < here.project.handoffs && (
            <Button onClick={() => setBack({ title: `Bring the whole project back to ${state}?`, back: { all: true, to: state } })}>
              Go back to it
            </Button>
          )}
        </span>
      )}
      {back && <GoBack here={here} {...back} onClose={() => setBack(undefined)} />}
      {asking && <AskToLook here={here} of={state} onClose={() => setAsking(false)} />}
      {naming && <NameState here={here} at={state} onClose={() => setNaming(false)} />}
    </p>
  );
}

/** Change shows what a handoff did to one asset: before and after, side by side. */
function Change({ here, change }: { here: Here; change: Schemas["HandoffAsset"] }) {
  const before = change.change !== "new" && change.before > 0;
  const after = change.change !== "gone";
  const now = change.now || change.path; // it may have been moved since
  return (
    <>
      <Link
        to={
          before && after
            ? comparePath(here.key, now, change.before, now, change.version)
            : `${assetPath(here.key, now)}?version=${change.version}`
        }
        className="block no-underline"
      >
        <span className={`grid gap-0.5 overflow-hidden rounded-lg ${before && after ? "grid-cols-2" : ""}`}>
          {before && <Side here={here} change={change} version={change.before} word="before" />}
          {after && <Side here={here} change={change} version={change.version} word={before ? "after" : "new"} />}
        </span>
      </Link>
      <p className="mt-1.5">
        <Link to={assetPath(here.key, now)} className="font-medium break-all">
          {change.path}
        </Link>
        <span className="block text-peat">
          {change.change}
          {change.moved_from && <> from {change.moved_from}</>}, v{change.version}
          {after && <>, {size(change.size)}</>}
          {before && after && <> ({grown(change.size - (change.size_before ?? 0))})</>}
        </span>
      </p>
    </>
  );
}

function Side({ here, change, version, word }: { here: Here; change: Schemas["HandoffAsset"]; version: number; word: string }) {
  return (
    <span className="relative block">
      <Picture project={here.key} path={change.now || change.path} version={version} edge={320} className="h-48 w-full" />
      <span className="absolute bottom-1.5 left-1.5 rounded-md bg-deep/85 px-1.5 text-xs text-ink">
        {word} v{version}
      </span>
    </span>
  );
}
