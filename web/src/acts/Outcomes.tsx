import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { changesOf, lockOf } from "../api/changes";
import { Problem, type Schemas } from "../api/client";
import { consoleSeat, useLockActions } from "../api/locks";
import { waysOut, type Way } from "../api/words.gen";
import type { Here } from "../pages/project/ProjectFrame";
import { Button } from "../parts/Button";
import { Trouble } from "../parts/Trouble";
import { AskToLetGo } from "../parts/LockControl";
import { wayWords } from "./ways";
import { outcomes, useOutcomes, useSaid, type Outcome } from "./outcomes";

/** Outcomes is what came of what one did, with ways out as buttons. It stands above the page, so that no live change takes it away. */
export function Outcomes({ here }: { here: Here }) {
  const list = useOutcomes();
  const said = useSaid();
  // biome-ignore lint/correctness/useExhaustiveDependencies: what came of it stays in its project
  useEffect(() => outcomes.clear, [here.key]);
  return (
    <>
      <p role="status" className="sr-only">
        {said}
      </p>
      <div
        className="fixed right-4 bottom-4 z-30 flex w-[min(34rem,calc(100vw-2rem))] flex-col gap-3 empty:hidden"
        role="region"
        aria-label="What was not done"
      >
        {list.map((o) => (
          <One key={o.id} here={here} outcome={o} />
        ))}
      </div>
    </>
  );
}

function One({ here, outcome: o }: { here: Here; outcome: Outcome }) {
  const refusals = o.error instanceof Problem ? (o.error.details.refusals ?? []) : [];
  return (
    <section aria-label={o.what} className="rounded-lg border border-line bg-bank p-3 shadow-2xl">
      <Trouble error={o.error} />
      <div className="mt-2 flex flex-wrap gap-2">
        {refusals.slice(0, 1).map((r) => (
          <WaysOut key={r.path + r.reason} here={here} outcome={o} refusal={r} />
        ))}
        <Button kind="quiet" onClick={() => outcomes.close(o.id)}>
          Close
        </Button>
      </div>
    </section>
  );
}

/** WaysOut are the ways out of one refusal. */
function WaysOut({ here, outcome: o, refusal: r }: { here: Here; outcome: Outcome; refusal: Schemas["Refusal"] }) {
  const { take } = useLockActions(here.key);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [asking, setAsking] = useState(false);
  const lock = useQuery({ ...lockOf(here.key, r.path), enabled: waysOut[r.reason]?.ways.includes("ask") === true });
  const workspace = o.workspace ?? consoleSeat;
  const close = () => outcomes.close(o.id);
  const closing = (then: () => void) => () => {
    close();
    then();
  };
  const again = (more: { wait?: boolean; bring?: boolean; diverge?: boolean } = {}) => {
    close();
    take.mutate({ asset: { path: r.path, newest: 0 }, workspace, ...more });
  };
  const go: Record<Way, (() => void) | undefined> = {
    wait: () => again({ wait: true }),
    ask: lock.data?.holder && lock.data.holder !== here.me ? () => setAsking(true) : undefined,
    bring: () => again({ bring: true }),
    diverge: () => again({ diverge: true }),
    branch: () => void navigate(`/p/${here.key}/branches`),
    lock: () => again(),
    older: o.go?.older && closing(o.go.older),
    again: closing(() => void changesOf(queries, here.key).all()),
  };
  return (
    <>
      {waysOut[r.reason]?.ways.map(
        (w) =>
          go[w] && (
            <Button key={w} onClick={go[w]}>
              {w === "ask" ? `Ask ${lock.data!.holder}` : wayWords[w]}
            </Button>
          ),
      )}
      {lock.data && (
        <AskToLetGo here={here} lock={lock.data} workspace={workspace} open={asking} onClose={() => setAsking(false)} onDone={close} />
      )}
    </>
  );
}
