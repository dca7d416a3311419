import { memo } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ask, type Lock, type Schemas } from "../../api/client";
import { useRows } from "../../api/rows";
import { Line } from "../../parts/Line";
import { List } from "../../parts/List";
import { LockButtons } from "../../parts/LockControl";
import { Picture } from "../../parts/Picture";
import { Trouble } from "../../parts/Trouble";
import { useTitle } from "../../parts/title";
import { assetPath, When } from "../../parts/words";
import { useHere, type Here } from "../project/ProjectFrame";

const filters = [
  { name: "", words: "All" },
  { name: "mine", words: "Mine" },
  { name: "waited", words: "Waited for" },
  { name: "forgotten", words: "Look forgotten" },
] as const;

type Answer = Schemas["Locks"];

const columns = "grid gap-x-4 gap-y-1 lg:grid-cols-[minmax(14rem,2fr)_minmax(10rem,1fr)_minmax(12rem,1.5fr)_20rem]";

/** Board is everything that is held or waited for, the longest held first. */
export function Board() {
  const here = useHere();
  const [params] = useSearchParams();
  useTitle("Locks");
  const only = filters.find((f) => f.name === (params.get("only") ?? ""))?.name ?? "";
  const by = params.get("by") ?? "";
  const list = useRows<Lock, Answer>({
    queryKey: ["project", here.key, "locks", only, by],
    fetch: (skip, limit) =>
      ask(
        api.GET("/projects/{project}/locks", {
          params: { path: { project: here.key }, query: { skip, limit, ...(only && { only }), ...(by && { by }) } },
        }),
      ),
    rows: (a) => a.locks,
    total: (a) => (by ? (a.tally?.people.find((p) => p.handle === by)?.held ?? 0) : (a.tally?.[only || "all"] ?? 0)),
  });
  const tally = list.first?.tally;
  if (!list.first) return <Trouble error={list.error} />;
  return (
    <>
      <p className="mb-3 flex flex-wrap gap-x-4 text-peat" role="group" aria-label="Show only">
        {filters.map((f) => (
          <Link
            key={f.name}
            to={f.name ? `?only=${f.name}` : "."}
            replace
            aria-current={f.name === only && !by}
            className={f.name === only && !by ? "text-ink" : "text-peat"}
          >
            {f.words} {(tally?.[f.name || "all"] ?? 0).toLocaleString("en")}
          </Link>
        ))}
        {by && (
          <span className="text-ink">
            held by {by} {list.total?.toLocaleString("en")}
          </span>
        )}
      </p>
      <Trouble error={list.error} />
      {list.total === 0 && <p className="text-peat">Nothing of that kind is locked.</p>}
      <List
        rows={list}
        height={72}
        measured
        role="table"
        label="Locks"
        row={(l) => <Row here={here} lock={l} />}
        head={
          <div role="rowgroup">
            <div role="row" className={`${columns} border-b border-line py-1.5 text-peat max-lg:hidden`}>
              {["Asset", "Held by", "Who waits"].map((w) => (
                <span key={w} role="columnheader">
                  {w}
                </span>
              ))}
              <span role="columnheader">
                <span className="sr-only">What to do</span>
              </span>
            </div>
          </div>
        }
      />
    </>
  );
}

const Row = memo(function Row({ here, lock }: { here: Here; lock: Lock }) {
  const mine = lock.holder === here.me;
  return (
    <div role="presentation" className={`${columns} border-b border-line py-2.5`}>
      <span role="cell" className="flex items-start gap-3">
        <Picture project={here.key} path={lock.path} version={lock.version ?? 0} edge={96} className="size-10 shrink-0 rounded-md" />
        <span className="min-w-0">
          <Link to={assetPath(here.key, lock.path)} className="font-medium wrap-anywhere">
            {lock.path}
          </Link>
          {lock.note && <span className="block text-peat">{lock.note}</span>}
          {!lock.version && <span className="block text-peat">a name that is kept: nothing was sent there yet</span>}
        </span>
      </span>
      <span role="cell">
        {lock.holder ? (
          <>
            <span className={`font-medium ${mine ? "text-copper" : "text-ice"}`}>{mine ? "you" : lock.holder}</span>,{" "}
            <When at={lock.since} />
            <span className="block text-peat">
              in {lock.workspace}
              {lock.unsent && ", with changes not sent"}
            </span>
            <Marks lock={lock} />
          </>
        ) : (
          <span className="text-peat">nobody</span>
        )}
      </span>
      <span role="cell">
        {lock.waitlist.length === 0 && !lock.asks?.length ? (
          <span className="text-peat max-lg:hidden">nobody</span>
        ) : (
          <Line lock={lock} me={here.me} />
        )}
      </span>
      <span role="cell">
        <LockButtons here={here} asset={{ path: lock.path, newest: lock.version ?? 0 }} lock={lock} />
      </span>
    </div>
  );
});

/** Marks are what makes a lock worth a second look. */
export function Marks({ lock }: { lock: Lock }) {
  return (
    <>
      {lock.forgotten && lock.heard && (
        <span className="block text-rust">
          looks forgotten: no word from there since <When at={lock.heard} />
        </span>
      )}
      {!!lock.diverged && (
        <span className="block text-rust">knowingly from version {lock.diverged}, though others have one that it was not made from</span>
      )}
    </>
  );
}
