import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, type Lock } from "../../api/client";
import { firstBranch } from "../../api/words.gen";
import { Asked, clock } from "../../parts/Line";
import { AnswerAsk, LockButtons, TakeOffer } from "../../parts/LockControl";
import { Picture } from "../../parts/Picture";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { Unsent } from "../../parts/Unsent";
import { assetPath, firstLine, plural, When } from "../../parts/words";
import { reviewPath } from "../review/Reviews";
import { useReviews } from "../review/useReview";
import { Marks } from "../locks/Board";
import { KitsBehind } from "../kits/FromKit";
import { useHere, type Here } from "../project/ProjectFrame";

/** The first thing about a project: who is on what, and what came in. */
export function TodayPage() {
  const here = useHere();
  useTitle("Today");
  const locks = useQuery({
    queryKey: ["project", here.key, "locks", "today"],
    queryFn: () => ask(api.GET("/projects/{project}/locks", { params: { path: { project: here.key }, query: { each } } })),
  });
  const people = locks.data?.tally?.people ?? [];
  return (
    <div className="grid gap-x-12 gap-y-8 lg:grid-cols-[3fr_2fr]">
      <section aria-labelledby="on-what">
        {locks.data && <ForYou here={here} locks={locks.data.locks} />}
        <div className="mb-4 flex flex-wrap items-baseline gap-x-4">
          <h1 id="on-what">Who is on what</h1>
          <Link to={`/p/${here.key}/wall`} className="ml-auto text-peat">
            For the wall
          </Link>
        </div>
        <Trouble error={locks.error} />
        {locks.data && people.length === 0 && (
          <p className="text-peat">
            Nobody holds anything. <Link to={`/p/${here.key}/assets`}>Assets</Link> is where to take one.
          </p>
        )}
        <div className="space-y-6">
          {[...people]
            .sort((a, b) => Number(b.handle === here.me) - Number(a.handle === here.me))
            .slice(0, most)
            .map((p) => (
              <Held
                key={p.handle}
                here={here}
                holder={p.handle}
                held={p.held}
                list={locks.data!.locks.filter((l) => l.holder === p.handle).slice(0, each)}
              />
            ))}
        </div>
        {people.length > most && (
          <p className="mt-4">
            <Link to={`/p/${here.key}/locks`}>All that is held, by {people.length} people</Link>
          </p>
        )}
        <KitsBehind here={here} />
        <NotSent here={here} />
      </section>
      <CameIn here={here} />
    </div>
  );
}

/** So many locks of each person, and so many people, are on the page; the page of locks has all. */
const each = 8;
const most = 24;

/** fresh is what was taken while the viewer may have been looking. */
const fresh = (since: string) => Date.now() - new Date(since).getTime() < 15_000;

function Held({ here, holder, held, list }: { here: Here; holder: string; held: number; list: Lock[] }) {
  const mine = holder === here.me;
  return (
    <div className={`border-l-3 pl-4 ${mine ? "border-copper" : "border-ice"}`}>
      <h2 className={mine ? "text-copper" : "text-ice"}>
        {mine ? "You" : holder} <span className="font-normal text-peat">{plural(held, "asset")}</span>
      </h2>
      <ul className="mt-1 divide-y divide-line">
        {list.map((l) => (
          <li key={l.path} className={`${fresh(l.since) ? "ripple " : ""}flex flex-wrap items-center gap-x-4 gap-y-1 py-2`}>
            <Picture project={here.key} path={l.path} version={l.version ?? 0} edge={96} className="size-10 rounded-md" />
            <span className="min-w-48 flex-1">
              <Link to={assetPath(here.key, l.path)} className="font-medium break-all">
                {l.path}
              </Link>
              <span className="block text-peat">
                {l.note ? `${l.note}, ` : ""}taken <When at={l.since} /> in {l.workspace}
                {l.waitlist.length > 0 && <>; {l.waitlist.map((w) => (w.handle === here.me ? "you" : w.handle)).join(", ")} in line</>}
              </span>
              <Marks lock={l} />
            </span>
            <LockButtons here={here} asset={{ path: l.path, newest: l.version ?? 0 }} lock={l} brief />
          </li>
        ))}
      </ul>
      {held > list.length && (
        <p className="mt-1">
          <Link to={`/p/${here.key}/locks?by=${encodeURIComponent(holder)}`}>All {held.toLocaleString("en")}</Link>
        </p>
      )}
    </div>
  );
}

/** ForYou is what waits for the one who looks: offers to take, asks to answer, work to look at, answers that they got. */
function ForYou({ here, locks }: { here: Here; locks: Lock[] }) {
  const offers = locks.filter((l) => l.waitlist[0]?.offered_until && l.waitlist[0].handle === here.me);
  const asked = locks
    .filter((l) => l.holder === here.me)
    .flatMap((l) => (l.asks ?? []).filter((k) => !k.answer).map((k) => ({ lock: l, ask: k })));
  const mine = locks
    .filter((l) => l.holder && l.holder !== here.me)
    .flatMap((l) => (l.asks ?? []).filter((k) => k.person === here.me).map((k) => ({ lock: l, ask: k })));
  const reviews = useReviews(here.key);
  const toLook = reviews.data?.reviews.filter((r) => !r.closed && r.waits.includes(here.me)) ?? [];
  if (offers.length + asked.length + mine.length + toLook.length === 0) return null;
  return (
    <section aria-labelledby="for-you" className="mb-8">
      <h2 id="for-you" className="mb-3 text-xl">
        Waiting for you
      </h2>
      <ul className="divide-y divide-line border-l-3 border-copper pl-4">
        {offers.map((l) => (
          <li key={l.path} className="flex flex-wrap items-center justify-between gap-x-4 gap-y-2 py-2.5">
            <span>
              <Link to={assetPath(here.key, l.path)} className="font-medium break-all">
                {l.path}
              </Link>
              <span className="block text-peat">it is your turn, until {clock(l.waitlist[0]!.offered_until!)}</span>
            </span>
            <TakeOffer here={here} lock={l} />
          </li>
        ))}
        {asked.map(({ lock, ask: k }) => (
          <li key={lock.path + k.person} className="space-y-2 py-2.5">
            <Link to={assetPath(here.key, lock.path)} className="font-medium break-all">
              {lock.path}
            </Link>
            <span className="block text-peat">
              <Asked ask={k} lock={lock} me={here.me} />
            </span>
            <AnswerAsk here={here} lock={lock} ask={k} />
          </li>
        ))}
        {toLook.map((r) => (
          <li key={`r${r.number}`} className="py-2.5">
            <Link to={reviewPath(here.key, r.number)} className="font-medium">
              {r.text}
            </Link>
            <span className="block text-peat">
              {r.person} asks you to look at {r.branch || `h${r.handoff}`}, <When at={r.at} />
            </span>
          </li>
        ))}
        {mine.map(({ lock, ask: k }) => (
          <li key={lock.path + k.at} className="py-2.5">
            <Link to={assetPath(here.key, lock.path)} className="font-medium break-all">
              {lock.path}
            </Link>
            <span className="block text-peat">
              <Asked ask={k} lock={lock} me={here.me} />
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** NotSent is who has changes that they have not sent, in which of their folders: also without a lock. */
function NotSent({ here }: { here: Here }) {
  const unsent = useQuery({
    queryKey: ["project", here.key, "unsent"],
    queryFn: () => ask(api.GET("/projects/{project}/unsent", { params: { path: { project: here.key } } })),
  });
  const list = unsent.data?.heads_up ?? [];
  if (list.length === 0) return <Trouble error={unsent.error} />;
  return (
    <section aria-labelledby="not-sent" className="mt-8">
      <h2 id="not-sent" className="mb-2">
        Changed and not sent yet <span className="font-normal text-peat">{plural(list.length, "asset")}</span>
      </h2>
      <ul className="divide-y divide-line">
        {list.slice(0, 50).map((h) => (
          <li key={h.workspace_id + h.path} className="py-2">
            <Link to={assetPath(here.key, h.path)} className="font-medium break-all">
              {h.path}
            </Link>
            <span className="block text-peat">
              <Unsent head={h} me={here.me} />
            </span>
          </li>
        ))}
      </ul>
      {list.length > 50 && <p className="mt-2 text-peat">and {(list.length - 50).toLocaleString("en")} more</p>}
    </section>
  );
}

function CameIn({ here }: { here: Here }) {
  const handoffs = useQuery({
    queryKey: ["project", here.key, "handoffs", "latest"],
    queryFn: () =>
      ask(api.GET("/projects/{project}/handoffs", { params: { path: { project: here.key }, query: { limit: 12, assets: 4 } } })),
  });
  return (
    <section aria-labelledby="came-in">
      <h2 id="came-in" className="mb-4 text-xl">
        What came in
      </h2>
      <Trouble error={handoffs.error} />
      {handoffs.data?.handoffs.length === 0 && <p className="text-peat">Nothing yet.</p>}
      <ol className="space-y-3">
        {handoffs.data?.handoffs.map((h) => (
          <li key={h.number} className="grid grid-cols-[3rem_minmax(0,1fr)_auto] gap-x-2">
            <span className="text-peat">h{h.number}</span>
            <span className="min-w-0">
              <Link to={`/p/${here.key}/handoffs/${h.number}`} className="font-medium">
                {firstLine(h.note)}
              </Link>
              <span className="block text-peat">
                {h.author}
                {h.branch !== firstBranch && <> on {h.branch}</>}, <When at={h.at} />, {plural(h.count, "asset")}
              </span>
            </span>
            <span className="flex gap-1" aria-hidden>
              {h.assets
                .filter((a) => a.change !== "gone")
                .slice(0, 2)
                .map((a) => (
                  <Picture
                    key={a.path}
                    project={here.key}
                    path={a.now || a.path}
                    version={a.version}
                    edge={96}
                    className="size-10 rounded-md"
                  />
                ))}
            </span>
          </li>
        ))}
      </ol>
      {(handoffs.data?.handoffs.length ?? 0) >= 12 && (
        <p className="mt-4 ml-12">
          <Link to={`/p/${here.key}/handoffs`}>All handoffs</Link>
        </p>
      )}
    </section>
  );
}
