import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Picture } from "../../parts/Picture";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { comparePath, plural, size } from "../../parts/words";
import { useHere, type Here } from "../project/ProjectFrame";
import { branchPath, merge, useAct, type Way } from "./useBranches";

type Clash = Schemas["MergeClash"];
type Answer = Schemas["MergeAnswer"];

/** exactly is the pattern that fits one path, and no other. */
const exactly = (path: string) => `/${path.replace(/[\\*?[\]!#]/g, "\\$&")}`;

/** MergePage shows what a merge would do, has decided what both sides changed, one click each, and does it. */
export function MergePage() {
  useTitle("Merging");
  const here = useHere();
  const [params] = useSearchParams();
  const from = params.get("from") ?? "";
  const into = params.get("into") ?? "";
  const [decided, setDecided] = useState<Map<string, Way>>(new Map());
  const [seen, setSeen] = useState<Map<string, Clash>>(new Map());
  const [note, setNote] = useState("");
  const navigate = useNavigate();
  const decide = [...decided].map(([path, way]) => ({ pattern: exactly(path), way }));
  const found = useQuery({
    queryKey: ["project", here.key, "merge", from, into, decide],
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: async () => {
      const plan = await merge(here.key, { from, into, decide, preview: true });
      setSeen((was) => new Map([...was, ...plan.undecided.map((c): [string, Clash] => [c.path, c])]));
      return plan;
    },
  });
  const act = useAct(
    here.key,
    (plan: Answer) => merge(here.key, { from, into, decide, note, seen: plan.at, seen_from: plan.at_from }),
    (done) => void navigate(`/p/${here.key}/handoffs/${done.handoff?.number}`),
  );
  const plan = found.data;
  const set = (path: string, way: Way | undefined) => {
    const next = new Map(decided);
    if (way) next.set(path, way);
    else next.delete(path);
    setDecided(next);
  };
  const open = new Map(plan?.undecided.map((c) => [c.path, c]));
  const clashes = [...seen.values()].map((c) => open.get(c.path) ?? c);
  return (
    <>
      <p className="text-peat">
        <Link to={`/p/${here.key}/branches`}>Branches</Link> / <Link to={branchPath(here.key, from)}>{from}</Link>
      </p>
      <h1 className="mt-1 break-all">
        {from} into {into}
      </h1>
      <Trouble error={found.error} />
      {plan && (
        <>
          <p className="mt-1 mb-6 max-w-prose text-peat">
            {plan.since > 0 ? (
              <>
                They went their own ways at <Link to={`/p/${here.key}/handoffs/${plan.since}`}>h{plan.since}</Link>.{" "}
              </>
            ) : (
              "They have no state in common. "
            )}
            {plan.count === 0
              ? "Nothing comes by itself."
              : `${plural(plan.count, "asset")} ${plan.count === 1 ? "comes" : "come"} by ${plan.count === 1 ? "itself" : "themselves"}, ${size(plan.size)}.`}
          </p>
          {clashes.length > 0 && (
            <section aria-label="To be decided">
              <h2 className="mb-3">Changed on both</h2>
              <ul className="space-y-6 [&_button]:scroll-mb-24">
                {clashes.map((c) => (
                  <li key={c.path}>
                    <Decide
                      here={here}
                      plan={plan}
                      clash={c}
                      way={decided.get(c.path)}
                      stillOpen={open.has(c.path)}
                      onDecide={(w) => set(c.path, w)}
                    />
                  </li>
                ))}
              </ul>
            </section>
          )}
          <Comes here={here} plan={plan} />
          {plan.refusals.length > 0 && (
            <div role="alert" className="mt-6 text-rust">
              <p>This stands in the way:</p>
              <ul>
                {plan.refusals.map((r) => (
                  <li key={r.path + r.reason}>{r.message}.</li>
                ))}
              </ul>
            </div>
          )}
          {(plan.answers?.length ?? 0) > 0 && (
            <p className="mt-6 text-peat">
              {plan
                .answers!.map((a) => `${a.person} said ${a.yes ? "yes" : "not yet"} in r${a.review}${a.old ? ", before it moved on" : ""}`)
                .join("; ")}
              .
            </p>
          )}
          <form
            className="sticky bottom-0 mt-8 flex flex-wrap items-center gap-3 border-t border-line bg-deep py-3"
            onSubmit={(e) => {
              e.preventDefault();
              act.mutate(plan);
            }}
          >
            <span role="status" className={plan.open > 0 ? "font-medium text-copper" : "text-peat"}>
              {plan.open > 0 ? `${plural(plan.open, "thing")} left to decide` : "Nothing is left to decide"}
            </span>
            <input
              className={`${fieldClass} max-w-sm`}
              value={note}
              onChange={(e) => setNote(e.target.value)}
              placeholder={plan.note}
              aria-label="Why"
            />
            {here.maySend && (
              <Button
                kind="act"
                type="submit"
                disabled={plan.open > 0 || plan.refusals.length > 0 || act.isPending || found.isPlaceholderData}
              >
                Bring it in
              </Button>
            )}
            <Trouble error={act.error} />
          </form>
        </>
      )}
    </>
  );
}

const wayWords: Record<Way, string> = { here: "This one", there: "This one", both: "Keep both", lines: "Line by line" };

/** Decide is one thing that both sides changed: here and there side by side, one click each. */
function Decide({
  here,
  plan,
  clash: c,
  way,
  stillOpen,
  onDecide,
}: {
  here: Here;
  plan: Answer;
  clash: Clash;
  way: Way | undefined;
  stillOpen: boolean;
  onDecide: (w: Way | undefined) => void;
}) {
  const side = (name: string, s: Schemas["MergeSide"] | undefined, w: Way) => (
    <div className={`rounded-lg border-2 p-2 ${way === w ? "border-copper bg-copper-wash" : "border-line"}`}>
      {s ? (
        <Picture project={here.key} path={s.path} version={s.version} edge={320} className="h-44 w-full rounded-md" />
      ) : (
        <p className="grid h-44 place-items-center bg-stone text-peat">deleted</p>
      )}
      <p className="mt-1.5 flex flex-wrap items-center justify-between gap-2">
        <span>
          on {name}
          {s && (
            <span className="text-peat">
              , v{s.version}, {size(s.size)}
              {s.path !== c.path && <>, at {s.path}</>}
            </span>
          )}
        </span>
        {c.ways.includes(w) && (
          <Button kind={way === w ? "act" : "plain"} aria-pressed={way === w} onClick={() => onDecide(way === w ? undefined : w)}>
            {wayWords[w]}
          </Button>
        )}
      </p>
    </div>
  );
  return (
    <article aria-label={c.path}>
      <p className="mb-2 break-all">
        <span className="font-medium">{c.path}</span> {!stillOpen && way && <span className="text-ice">decided</span>}
        {c.here && c.there && c.here.path === c.there.path && (
          <Link to={comparePath(here.key, c.here.path, c.there.version, c.here.path, c.here.version)} className="ml-3">
            Compare them
          </Link>
        )}
      </p>
      <div className="grid gap-3 sm:grid-cols-2">
        {side(plan.into, c.here, "here")}
        {side(plan.from, c.there, "there")}
      </div>
      <p className="mt-2 flex flex-wrap gap-2">
        {c.ways
          .filter((w) => w === "both" || w === "lines")
          .map((w) => (
            <Button key={w} kind={way === w ? "act" : "plain"} aria-pressed={way === w} onClick={() => onDecide(way === w ? undefined : w)}>
              {wayWords[w]}
            </Button>
          ))}
      </p>
      {stillOpen && way && <p className="mt-1 text-copper">{c.message}.</p>}
    </article>
  );
}

const most = 60;

/** Comes is what comes by itself, or as it was decided. */
function Comes({ here, plan }: { here: Here; plan: Answer }) {
  if (plan.comes.length === 0) return null;
  return (
    <section className="mt-8">
      <h2 className="mb-2">
        What changes on {plan.into} ({plan.count.toLocaleString("en")})
      </h2>
      <ul className="grid grid-cols-[repeat(auto-fill,minmax(min(100%,18rem),1fr))] gap-x-6 gap-y-2">
        {plan.comes.slice(0, most).map((c) => (
          <li key={c.path} className="flex min-w-0 items-center gap-2">
            {c.change !== "gone" && !c.made ? (
              <Picture project={here.key} path={c.path} version={c.version} edge={96} className="size-10 rounded-md" />
            ) : (
              <span className="size-10 shrink-0 rounded-md bg-stone" />
            )}
            <span className="min-w-0">
              <span className="block break-all">{c.path}</span>
              <span className="text-peat">
                {c.change}
                {c.made && ", a new version of both"}
                {c.change !== "gone" && `, ${size(c.size)}`}
              </span>
            </span>
          </li>
        ))}
      </ul>
      {plan.count > most && <p className="mt-2 text-peat">and {(plan.count - most).toLocaleString("en")} more</p>}
    </section>
  );
}
