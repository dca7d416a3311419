import { useNavigate } from "react-router";
import type { Workspace } from "../../api/desk";
import { Problem, type Schemas } from "../../api/client";
import { waysOut, type Way } from "../../api/words.gen";
import { wayWords } from "../../acts/ways";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";
import { useAsking } from "./asking";
import { useWork } from "./useWork";

/** Refused is what was not done at the desk, and the ways out of it as buttons. older sends all the same what goes back. */
export function Refused({ w, error, older }: { w: Workspace; error: unknown; older?: () => void }) {
  if (!error) return null;
  const refusals = error instanceof Problem ? (error.details.refusals ?? []) : [];
  const reasons = [...new Map(refusals.map((r) => [r.reason, r])).values()];
  return (
    <div className="mt-3">
      <Trouble error={error} />
      <div className="mt-2 flex flex-wrap gap-2 empty:hidden">
        {reasons.map((r) => (
          <Ways key={r.reason} w={w} all={refusals.filter((x) => x.reason === r.reason)} {...(older && { older })} />
        ))}
      </div>
    </div>
  );
}

function Ways({ w, all, older }: { w: Workspace; all: Schemas["Refusal"][]; older?: () => void }) {
  const lock = useWork("lock");
  const update = useWork("update");
  const navigate = useNavigate();
  const asking = useAsking();
  const paths = all.map((r) => r.path).filter(Boolean);
  const take = (more: { wait?: boolean; bring?: boolean; diverge?: boolean } = {}) =>
    lock.mutate({ workspace: w.workspace, paths, ...more });
  const go: Record<Way, (() => void) | undefined> = {
    wait: () => take({ wait: true }),
    ask: () => asking.open({ workspace: w.workspace, path: paths[0] ?? "" }),
    bring: () => take({ bring: true }),
    diverge: () => take({ diverge: true }),
    branch: () => void navigate(`/p/${w.project}/branches`),
    lock: () => take(),
    older,
    again: () => update.mutate({ workspace: w.workspace, paths }),
  };
  return (
    <>
      {paths.length > 0 &&
        waysOut[all[0]!.reason]?.ways.map(
          (way) =>
            go[way] && (
              <Button key={way} disabled={lock.isPending || update.isPending} onClick={go[way]}>
                {way === "again" ? "Bring the newest" : wayWords[way]}
              </Button>
            ),
        )}
      {(lock.error || update.error) && <Trouble error={lock.error ?? update.error} />}
      {lock.data && (
        <span role="status" className="self-center text-peat">
          {lock.data.locks.length > 0 ? "It is yours now." : lock.data.waiting.length > 0 ? "You are in line, and will be told." : ""}
        </span>
      )}
      {asking.dialog}
    </>
  );
}
