import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, type Lock } from "../../api/client";
import { useLocks } from "../../api/locks";
import { firstBranch } from "../../api/words.gen";
import { Asked, clock } from "../../parts/Line";
import { AnswerAsk, ReleaseLock, TakeOffer } from "../../parts/LockControl";
import { Picture } from "../../parts/Picture";
import { Trouble } from "../../parts/Trouble";
import { Unsent } from "../../parts/Unsent";
import { assetPath, firstLine, plural, When } from "../../parts/words";
import { reviewPath } from "../review/Reviews";
import { useReviews } from "../review/useReview";
import { Marks } from "../locks/Board";
import { useHere, type Here } from "../project/ProjectFrame";

/** The first thing about a project: who is on what, and what came in. */
export function TodayPage() {
  const here = useHere();
  const locks = useLocks(here.key);
  return (
    <div className="grid gap-x-12 gap-y-8 lg:grid-cols-[3fr_2fr]">
      <section aria-labelledby="on-what">
        {locks.data && <ForYou here={here} locks={locks.data.locks} />}
        <h1 id="on-what" className="mb-4">Who is on what</h1>
        <Trouble error={locks.error} />
        {locks.data?.locks.every((l) => !l.holder) && (
          <p className="text-peat">
            Nobody holds anything. <Link to={`/p/${here.key}/assets`}>Assets</Link> is where to take one.
          </p>
        )}
        <div className="space-y-6">
          {locks.data && byHolder(locks.data.locks.filter((l) => l.holder), here.me).map(([holder, list]) => <Held key={holder} here={here} holder={holder} list={list} />)}
        </div>
        <NotSent here={here} />
      </section>
      <CameIn here={here} />
    </div>
  );
}

/** byHolder groups locks, one's own first. */
function byHolder(locks: Lock[], me: string): [string, Lock[]][] {
  const groups = new Map<string, Lock[]>();
  for (const l of locks) groups.set(l.holder, [...(groups.get(l.holder) ?? []), l]);
  return [...groups].sort(([a], [b]) => Number(b === me) - Number(a === me) || a.localeCompare(b));
}

/** fresh is what was taken while the viewer may have been looking. */
const fresh = (since: string) => Date.now() - new Date(since).getTime() < 15_000;

function Held({ here, holder, list }: { here: Here; holder: string; list: Lock[] }) {
  const mine = holder === here.me;
  return (
    <div className={`border-l-3 pl-4 ${mine ? "border-copper" : "border-ice"}`}>
      <h2 className={mine ? "text-copper" : "text-ice"}>
        {mine ? "You" : holder} <span className="font-normal text-peat">{plural(list.length, "asset")}</span>
      </h2>
      <ul className="mt-1 divide-y divide-line">
        {list.map((l) => (
          <li key={l.path} className={`${fresh(l.since) ? "ripple " : ""}flex flex-wrap items-center gap-x-4 gap-y-1 py-2`}>
            <Picture project={here.key} path={l.path} version={0} edge={96} className="size-10 rounded-md" />
            <span className="min-w-48 flex-1">
              <Link to={assetPath(here.key, l.path)} className="font-medium break-all">{l.path}</Link>
              <span className="block text-peat">
                {l.note ? `${l.note}, ` : ""}taken <When at={l.since} /> in {l.workspace}
                {l.waitlist.length > 0 && <>; {l.waitlist.map((w) => (w.handle === here.me ? "you" : w.handle)).join(", ")} in line</>}
              </span>
              <Marks lock={l} />
            </span>
            <ReleaseLock here={here} lock={l} />
          </li>
        ))}
      </ul>
    </div>
  );
}

/** ForYou is what waits for the one who looks: offers to take, asks to answer, work to look at, answers that they got. */
function ForYou({ here, locks }: { here: Here; locks: Lock[] }) {
  const offers = locks.filter((l) => l.waitlist[0]?.offered_until && l.waitlist[0].handle === here.me);
  const asked = locks.filter((l) => l.holder === here.me).flatMap((l) => (l.asks ?? []).filter((k) => !k.answer).map((k) => ({ lock: l, ask: k })));
  const mine = locks.filter((l) => l.holder && l.holder !== here.me).flatMap((l) => (l.asks ?? []).filter((k) => k.person === here.me).map((k) => ({ lock: l, ask: k })));
  const reviews = useReviews(here.key);
  const toLook = reviews.data?.reviews.filter((r) => !r.closed && r.waits.includes(here.me)) ?? [];
  if (offers.length + asked.length + mine.length + toLook.length === 0) return null;
  return (
    <section aria-labelledby="for-you" className="mb-8">
      <h1 id="for-you" className="mb-3">Waiting for you</h1>
      <ul className="divide-y divide-line border-l-3 border-copper pl-4">
        {offers.map((l) => (
          <li key={l.path} className="flex flex-wrap items-center justify-between gap-x-4 gap-y-2 py-2.5">
            <span>
              <Link to={assetPath(here.key, l.path)} className="font-medium break-all">{l.path}</Link>
              <span className="block text-peat">it is your turn, until {clock(l.waitlist[0]!.offered_until!)}</span>
            </span>
            <TakeOffer here={here} lock={l} />
          </li>
        ))}
        {asked.map(({ lock, ask: k }) => (
          <li key={lock.path + k.person} className="space-y-2 py-2.5">
            <Link to={assetPath(here.key, lock.path)} className="font-medium break-all">{lock.path}</Link>
            <span className="block text-peat"><Asked ask={k} lock={lock} me={here.me} /></span>
            <AnswerAsk here={here} lock={lock} ask={k} />
          </li>
        ))}
        {toLook.map((r) => (
          <li key={`r${r.number}`} className="py-2.5">
            <Link to={reviewPath(here.key, r.number)} className="font-medium">{r.text}</Link>
            <span className="block text-peat">{r.person} asks you to look at {r.branch || `h${r.handoff}`}, <When at={r.at} /></span>
          </li>
        ))}
        {mine.map(({ lock, ask: k }) => (
          <li key={lock.path + k.at} className="py-2.5">
            <Link to={assetPath(here.key, lock.path)} className="font-medium break-all">{lock.path}</Link>
            <span className="block text-peat"><Asked ask={k} lock={lock} me={here.me} /></span>
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
      <h2 id="not-sent" className="mb-2">Changed and not sent yet <span className="font-normal text-peat">{plural(list.length, "asset")}</span></h2>
      <ul className="divide-y divide-line">
        {list.slice(0, 50).map((h) => (
          <li key={h.workspace_id + h.path} className="py-2">
            <Link to={assetPath(here.key, h.path)} className="font-medium break-all">{h.path}</Link>
            <span className="block text-peat"><Unsent head={h} me={here.me} /></span>
          </li>
        ))}
      </ul>
      {list.length > 50 && <p className="mt-2 text-peat">and {list.length - 50} more: tarn status --fetch lists them</p>}
    </section>
  );
}

function CameIn({ here }: { here: Here }) {
  const handoffs = useQuery({
    queryKey: ["project", here.key, "handoffs", "latest"],
    queryFn: () => ask(api.GET("/projects/{project}/handoffs", { params: { path: { project: here.key }, query: { limit: 12, assets: 4 } } })),
  });
  return (
    <section aria-labelledby="came-in">
      <h1 id="came-in" className="mb-4">What came in</h1>
      <Trouble error={handoffs.error} />
      {handoffs.data?.handoffs.length === 0 && <p className="text-peat">Nothing yet.</p>}
      <ol className="space-y-3">
        {handoffs.data?.handoffs.map((h) => (
          <li key={h.number} className="grid grid-cols-[3rem_minmax(0,1fr)_auto] gap-x-2">
            <span className="text-peat">h{h.number}</span>
            <span className="min-w-0">
              <Link to={`/p/${here.key}/handoffs/${h.number}`} className="font-medium">{firstLine(h.note)}</Link>
              <span className="block text-peat">
                {h.author}{h.branch !== firstBranch && <> on {h.branch}</>}, <When at={h.at} />, {plural(h.count, "asset")}
              </span>
            </span>
            <span className="flex gap-1" aria-hidden>
              {h.assets.filter((a) => a.change !== "gone").slice(0, 2).map((a) => <Picture key={a.path} project={here.key} path={a.now || a.path} version={a.version} edge={96} className="size-10 rounded-md" />)}
            </span>
          </li>
        ))}
      </ol>
      {(handoffs.data?.handoffs.length ?? 0) >= 12 && (
        <p className="mt-4 ml-12"><Link to={`/p/${here.key}/handoffs`}>All handoffs</Link></p>
      )}
    </section>
  );
}
