import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link } from "react-router";
import { api, ask, type Lock, type Schemas } from "../../api/client";
import { firstBranch } from "../../api/words.gen";
import { Picture } from "../../parts/Picture";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { baseName, firstLine, plural, When } from "../../parts/words";
import { useHere, type Here } from "../project/ProjectFrame";

/** So much fits on a wall: people, what each has, and handoffs. */
const people = 8;
const each = 3;
const handoffs = 6;

/** WallPage is for the screen that hangs in the team's room: who is on what, and what came in, large, live, and without hands. */
export function WallPage() {
  const here = useHere();
  useTitle("Wall");
  useAwake();
  const locks = useQuery({
    queryKey: ["project", here.key, "locks", "wall"],
    queryFn: () => ask(api.GET("/projects/{project}/locks", { params: { path: { project: here.key }, query: { each } } })),
  });
  const latest = useQuery({
    queryKey: ["project", here.key, "handoffs", "wall"],
    queryFn: () =>
      ask(api.GET("/projects/{project}/handoffs", { params: { path: { project: here.key }, query: { limit: handoffs, assets: 3 } } })),
  });
  const holding = locks.data?.tally?.people ?? [];
  return (
    <div className="fixed inset-0 z-20 overflow-y-auto bg-deep p-[2vmax]">
      <div className="mb-[1.5vmax] flex items-baseline gap-[1.5vmax]">
        <h1 className="text-[2.6vmax]">{here.key}</h1>
        {locks.data && (
          <span className="text-[1.5vmax] text-peat">
            {plural(locks.data.tally?.all ?? 0, "asset")} held, {plural(locks.data.tally?.waited ?? 0, "asset")} waited for
          </span>
        )}
        <Link to={`/p/${here.key}`} className="ml-auto text-sm text-peat">
          Leave the wall
        </Link>
      </div>
      <Trouble error={locks.error ?? latest.error} />
      <div className="grid gap-[2.5vmax] lg:grid-cols-[3fr_2fr]">
        <section aria-labelledby="wall-who">
          <h2 id="wall-who" className="sr-only">
            Who is on what
          </h2>
          {locks.data && holding.length === 0 && <p className="text-[2vmax] text-peat">Nobody holds anything.</p>}
          <ul className="grid gap-[1.2vmax] sm:grid-cols-2">
            {holding.slice(0, people).map((p) => (
              <Person key={p.handle} here={here} person={p} locks={locks.data!.locks.filter((l) => l.holder === p.handle)} />
            ))}
          </ul>
          {holding.length > people && <p className="mt-[1vmax] text-[1.4vmax] text-peat">and {holding.length - people} more people</p>}
        </section>
        <section aria-labelledby="wall-in">
          <h2 id="wall-in" className="sr-only">
            What came in
          </h2>
          <ol className="space-y-[1.2vmax]">
            {latest.data?.handoffs.map((h) => (
              <CameIn key={h.number} here={here} handoff={h} />
            ))}
          </ol>
        </section>
      </div>
    </div>
  );
}

function Person({ here, person, locks }: { here: Here; person: Schemas["Holding"]; locks: Lock[] }) {
  return (
    <li className="overflow-hidden rounded-lg border border-line bg-bank">
      <div className="flex h-[9vmax] gap-px bg-stone">
        {locks.slice(0, each).map((l) => (
          <Picture key={l.path} project={here.key} path={l.path} version={l.version ?? 0} edge={320} className="h-full min-w-0 flex-1" />
        ))}
      </div>
      <div className="px-[1vmax] py-[0.7vmax]">
        <p className="flex items-baseline gap-[0.8vmax] text-[1.7vmax] font-semibold text-ice">
          {person.handle}
          <span className="text-[1.2vmax] font-normal text-peat">{plural(person.held, "asset")}</span>
        </p>
        {locks.slice(0, each).map((l) => (
          <p key={l.path} className="truncate text-[1.25vmax]">
            {baseName(l.path)}
            <span className="text-peat">
              , <When at={l.since} />
              {l.waitlist.length > 0 && `, ${l.waitlist.map((w) => w.handle).join(", ")} in line`}
            </span>
          </p>
        ))}
      </div>
    </li>
  );
}

function CameIn({ here, handoff: h }: { here: Here; handoff: Schemas["Handoff"] }) {
  const seen = h.assets.filter((a) => a.change !== "gone").slice(0, 1);
  return (
    <li className="flex gap-[1vmax]">
      <span className="size-[6.5vmax] shrink-0">
        {seen.map((a) => (
          <Picture key={a.path} project={here.key} path={a.now || a.path} version={a.version} edge={320} className="size-full rounded-lg" />
        ))}
      </span>
      <span className="min-w-0">
        <span className="line-clamp-2 text-[1.5vmax] leading-tight font-semibold">{firstLine(h.note)}</span>
        <span className="mt-[0.4vmax] block text-[1.2vmax] text-peat">
          {h.author}
          {h.branch !== firstBranch && <> on {h.branch}</>}, <When at={h.at} />, {plural(h.count, "asset")}
        </span>
      </span>
    </li>
  );
}

/** useAwake asks the browser not to let the screen sleep, where it can: a wall has no hands. */
function useAwake() {
  useEffect(() => {
    let lock: WakeLockSentinel | undefined;
    let over = false;
    const ask = () => {
      if (document.visibilityState !== "visible" || !("wakeLock" in navigator)) return;
      navigator.wakeLock
        .request("screen")
        .then((l) => (over ? void l.release() : (lock = l)))
        .catch(() => {}); // the wall works as well; the screen sleeps when its machine says so
    };
    ask();
    document.addEventListener("visibilitychange", ask);
    return () => {
      over = true;
      document.removeEventListener("visibilitychange", ask);
      void lock?.release();
    };
  }, []);
}
