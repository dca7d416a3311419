import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, ask, type Schemas } from "../../api/client";
import { Button } from "../../parts/Button";
import { useKey } from "../../parts/Keys";
import { Picture } from "../../parts/Picture";
import { Pointing, type Mark } from "../../parts/Pointing";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { assetPath, baseName, plural, size, When } from "../../parts/words";
import { Shown } from "../asset/Shown";
import { branchPath, useBranch } from "../branches/useBranches";
import { Difference } from "../compare/Difference";
import { useCompare } from "../compare/useCompare";
import { useHere, type Here } from "../project/ProjectFrame";
import { AnswerForm, Answers, RemarkList, Say, type Remark } from "./Conversation";
import { useReview, useReviewActs, useSpots, type Acts, type Review } from "./useReview";

type Thing = Schemas["HandoffAsset"];

/** ReviewPage goes through what a review is about, one thing after the other: the thing large, what is said of it beside it, marks where that points. */
export function ReviewPage() {
  const here = useHere();
  const number = Number(useParams()["review"]);
  const found = useReview(here.key, number);
  const r = found.data;
  useTitle(r ? `r${r.number} ${r.text}` : `r${number}`);
  if (!r) return <Trouble error={found.error} />;
  return r.branch ? <OfBranch here={here} review={r} /> : <OfHandoff here={here} review={r} />;
}

function OfHandoff({ here, review: r }: { here: Here; review: Review }) {
  const found = useQuery({
    queryKey: ["project", here.key, "handoff", String(r.handoff)],
    queryFn: () =>
      ask(api.GET("/projects/{project}/handoffs/{number}", { params: { path: { project: here.key, number: String(r.handoff) } } })),
  });
  if (!found.data) return <Trouble error={found.error} />;
  const { assets } = found.data;
  return <Going here={here} review={r} things={assets} total={assets.length} />;
}

/** OfBranch goes through what the branch changed since the state that it has in common with where it came from; where it came in whole, since it was made. */
function OfBranch({ here, review: r }: { here: Here; review: Review }) {
  const branch = useBranch(here.key, r.branch!);
  const b = branch.data;
  const from = !b?.from ? "h1" : b.since && b.since !== r.head ? `h${b.since}` : `h${b.at}`;
  const to = `h${r.head}`;
  const found = useInfiniteQuery({
    queryKey: ["project", here.key, "between", from, to],
    enabled: b !== undefined && r.head > 0,
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/projects/{project}/between", {
          params: { path: { project: here.key }, query: { from, to, limit: 200, ...(pageParam && { after: pageParam }) } },
        }),
      ),
    getNextPageParam: (p) => p.next,
  });
  const pages = found.data?.pages;
  if (!pages) return <Trouble error={branch.error ?? found.error} />;
  const { total: t } = pages[0]!;
  return (
    <Going
      here={here}
      review={r}
      things={pages.flatMap((p) => p.assets)}
      total={t.new + t.edited + t.moved + t.gone}
      {...(found.hasNextPage && { more: () => void found.fetchNextPage() })}
    />
  );
}

interface GoingProps {
  here: Here;
  review: Review;
  things: Thing[];
  total: number;
  more?: () => void;
}

function Going({ here, review: r, things, total, more }: GoingProps) {
  const [params, setParams] = useSearchParams();
  const acts = useReviewActs(here.key, r.number);
  const wanted = params.get("path");
  const found = wanted === null ? 0 : things.findIndex((t) => t.path === wanted);
  const at = Math.max(0, found);
  const coming = found < 0 && more !== undefined; // it is on a later page of the list
  const thing = coming ? undefined : things[at];
  const go = (to: number) => {
    const next = things[to];
    if (next) setParams({ path: next.path }, { replace: true });
  };
  useEffect(() => {
    if (more && (coming || at > things.length - 20)) more();
  }, [more, coming, at, things.length]);
  // A step is from where the last one goes: the page may not be there yet when somebody steps twice.
  const going = useRef(at);
  useEffect(() => {
    going.current = at;
  }, [at]);
  const step = (by: number) => {
    going.current = Math.min(Math.max(going.current + by, 0), things.length - 1);
    go(going.current);
  };
  useKey("n", () => step(1));
  useKey("b", () => step(-1));
  const closed = !!r.closed;
  return (
    <>
      <p className="text-peat">
        {r.branch ? (
          <>
            <Link to={`/p/${here.key}/branches`}>Branches</Link> / <Link to={branchPath(here.key, r.branch)}>{r.branch}</Link>
          </>
        ) : (
          <>
            <Link to={`/p/${here.key}/handoffs`}>Handoffs</Link> / <Link to={`/p/${here.key}/handoffs/${r.handoff}`}>h{r.handoff}</Link>
          </>
        )}{" "}
        / r{r.number}
      </p>
      <h1 className="mt-1 max-w-prose">{r.text}</h1>
      <p className="text-peat">
        {r.person}, <When at={r.at} />
        {r.asked.length > 0 && `, asked ${r.asked.join(", ")}`}
        {closed && (
          <>
            ; closed by {r.closer}, <When at={r.closed!} />
          </>
        )}
      </p>
      {thing ? (
        <>
          <nav className="mt-4 mb-3 flex flex-wrap items-center gap-2 border-y border-line py-2" aria-label="What is looked at">
            <Button disabled={at === 0} onClick={() => step(-1)} aria-keyshortcuts="b">
              Back <kbd className="text-xs text-peat">b</kbd>
            </Button>
            <Button kind="act" disabled={at >= things.length - 1} onClick={() => step(1)} aria-keyshortcuts="n">
              Next <kbd className="text-xs">n</kbd>
            </Button>
            <span role="status" className="ml-1">
              {at + 1} of {total}
            </span>
            <Strip here={here} review={r} things={things} at={at} go={go} />
          </nav>
          <One key={`${thing.path} ${thing.version}`} here={here} review={r} acts={acts} thing={thing} />
        </>
      ) : (
        <p className="mt-4 text-peat">{coming ? `Looking for ${wanted} …` : "There is nothing to look at: nothing is different."}</p>
      )}
      <section className="mt-8 border-t border-line pt-3" aria-label="Of the whole">
        <h2>Of the whole</h2>
        <Answers review={r} />
        {!closed && <AnswerForm review={r} acts={acts} />}
        <Trouble error={acts.answer.error} />
        <RemarkList here={here} review={r} acts={acts} list={r.remarks?.filter((m) => !m.answers && !m.path) ?? []} />
        {!closed && <Say onSay={(text, done) => acts.say.mutate({ text }, { onSuccess: done })} label="Say something of the whole" />}
      </section>
    </>
  );
}

const around = 6;

/** Strip is the things around the one that is looked at, with how much there is open on each. */
function Strip({ here, review: r, things, at, go }: { here: Here; review: Review; things: Thing[]; at: number; go: (to: number) => void }) {
  const first = Math.max(0, Math.min(at - around, things.length - 2 * around - 1));
  const open = (t: Thing) =>
    r.remarks?.filter((m) => !m.answers && !m.settled && m.path && (m.path === t.path || m.path === t.now)).length ?? 0;
  return (
    <ul className="ml-auto flex flex-wrap gap-1 max-sm:hidden">
      {things.slice(first, first + 2 * around + 1).map((t, i) => {
        const n = open(t);
        return (
          <li key={t.path}>
            <button
              type="button"
              onClick={() => go(first + i)}
              aria-current={first + i === at}
              aria-label={`${t.path}${n ? `, ${plural(n, "remark")} open` : ""}`}
              title={t.path}
              className={`relative block cursor-pointer border-b-3 ${first + i === at ? "border-copper" : "border-transparent hover:border-line"}`}
            >
              <Picture project={here.key} path={t.now || t.path} version={t.version || t.before} edge={96} className="size-9 rounded-md" />
              {n > 0 && (
                <span
                  aria-hidden
                  className="absolute -top-1 -right-1 min-w-4 rounded-md bg-copper px-0.5 text-center text-xs leading-4 font-semibold text-on-copper"
                >
                  {n}
                </span>
              )}
            </button>
          </li>
        );
      })}
    </ul>
  );
}

/** One is one thing: what is to see of it, and what is said of it. */
function One({ here, review: r, acts, thing: t }: { here: Here; review: Review; acts: Acts; thing: Thing }) {
  const path = t.now || t.path;
  const gone = t.change === "gone";
  const spots = useSpots(here.key, r.number, path, gone ? 0 : t.version, r.said);
  const [chosen, choose] = useState<number>();
  const [spot, setSpot] = useState<string>();
  const field = useRef<HTMLInputElement>(null);
  const point = (where: string) => {
    setSpot(where);
    field.current?.focus();
  };
  const known = new Map(spots.data?.spots.map((s) => [s.remark, s.where ?? ""]));
  const about = r.remarks?.filter((m) => !m.answers && m.path && (known.has(m.number) || m.path === t.path || m.path === path)) ?? [];
  const marks: Mark[] = about
    .filter((m) => known.get(m.number))
    .map((m) => ({ number: m.number, where: known.get(m.number)!, settled: !!m.settled, elsewhere: m.version !== t.version }));
  const closed = !!r.closed;
  const where = (m: Remark) => {
    if (m.version === t.version) return m.where && <>; {m.where}</>;
    const now = known.get(m.number);
    return (
      <>
        ; on v{m.version}
        {m.where && (
          <>
            , {m.where}
            {spots.data && (now === undefined ? ", not on this one" : now !== m.where && `, here ${now}`)}
          </>
        )}
      </>
    );
  };
  return (
    <div className="grid gap-x-8 gap-y-6 lg:grid-cols-[minmax(0,1fr)_21rem]">
      <section className="min-w-0" aria-labelledby="thing">
        <h2 id="thing" className="mb-3 flex flex-wrap items-baseline gap-x-3">
          <Link to={`${assetPath(here.key, path)}?version=${t.version || t.before}`} className="break-all">
            {t.path}
          </Link>
          <span className="text-base font-normal text-peat">
            {t.change}
            {t.moved_from && ` from ${t.moved_from}`}
            {!gone && `, v${t.version}, ${size(t.size)}`}
          </span>
        </h2>
        <Pointing
          value={{
            marks,
            chosen,
            choose: (n) => {
              choose(n);
              document.getElementById(`remark-${n}`)?.scrollIntoView({ block: "nearest" });
            },
            spot,
            ...(!closed && !gone && { point }),
          }}
        >
          {gone ? (
            <>
              <p className="mb-2 text-peat">It is gone in what is looked at. This is how it was:</p>
              <Picture project={here.key} path={path} version={t.before} edge={1280} className="max-h-96 w-full rounded-lg" />
            </>
          ) : t.before > 0 && t.before !== t.version ? (
            <Compared here={here} path={path} thing={t} />
          ) : (
            <Shown here={here} path={path} version={t.version} />
          )}
        </Pointing>
      </section>
      <section aria-label={`Said of ${baseName(t.path)}`}>
        <h2>Said of it</h2>
        {about.length === 0 && <p className="text-peat">Nothing yet.</p>}
        {!closed && !gone && (
          <div className="mt-2">
            {spot && (
              <p>
                At <strong>{spot}</strong>{" "}
                <Button kind="quiet" onClick={() => setSpot(undefined)}>
                  Of all of it instead
                </Button>
              </p>
            )}
            <Say
              field={field}
              label={spot ? `Say something at ${spot}` : "Say something of it"}
              onSay={(text, done) =>
                acts.say.mutate(
                  { text, path, version: t.version, ...(spot && { where: spot }) },
                  {
                    onSuccess: () => {
                      done();
                      setSpot(undefined);
                    },
                  },
                )
              }
            />
            <Trouble error={acts.say.error ?? acts.settle.error} />
          </div>
        )}
        <RemarkList here={here} review={r} acts={acts} list={about} where={where} chosen={chosen} />
      </section>
    </div>
  );
}

function Compared({ here, path, thing: t }: { here: Here; path: string; thing: Thing }) {
  const sides = { path, a: t.before, with: path, b: t.version };
  const found = useCompare(here.key, sides);
  if (!found.data) return found.error ? <Trouble error={found.error} /> : <p className="text-peat">Looking at both …</p>;
  return <Difference here={here} sides={sides} comparison={found.data.comparison} />;
}
