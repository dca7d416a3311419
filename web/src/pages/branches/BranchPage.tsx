import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { Button } from "../../parts/Button";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { assetPath, plural, When } from "../../parts/words";
import { useHere, type Here } from "../project/ProjectFrame";
import { apart } from "./BranchesPage";
import { AskToLook, Reviews } from "../review/Reviews";
import { setState, useAct, useBranch, type Branch } from "./useBranches";

function changes(n: Schemas["BranchChanges"] | undefined) {
  const parts = n
    ? [
        [n.new, "new"],
        [n.changed, "changed"],
        [n.moved, "moved"],
        [n.gone, "gone"],
      ]
        .filter(([count]) => count)
        .map(([count, word]) => `${count} ${word}`)
    : [];
  return parts.length ? parts.join(", ") : "nothing";
}

/** BranchPage is one branch beside the one that it came from, and what people say of it. */
export function BranchPage() {
  const here = useHere();
  const name = useParams()["*"]!;
  const found = useBranch(here.key, name);
  const [asking, setAsking] = useState(false);
  const b = found.data;
  useTitle(name);
  if (!b) return <Trouble error={found.error} />;
  return (
    <>
      <p className="text-peat">
        <Link to={`/p/${here.key}/branches`}>Branches</Link> / {b.name}
      </p>
      <h1 className="mt-1 break-all">{b.name}</h1>
      {b.why && <p className="mt-1 max-w-prose text-lg">{b.why}</p>}
      <p className="mt-1 text-peat">
        {b.state === "live"
          ? "Live"
          : b.state === "done"
            ? "Done: ready to come in"
            : "Closed: it keeps everything, and takes nothing more"}
        ; {apart(b) || plural(b.assets, "asset")}
        {b.from && (
          <>
            ; made by {b.person} from {b.from} at h{b.at}, <When at={b.made} />
          </>
        )}
      </p>
      {b.from && (
        <p className="mt-3 max-w-prose">
          Since <Link to={`/p/${here.key}/handoffs/${b.since}`}>h{b.since}</Link> it has gone its own way: {changes(b.here)}. On {b.from}{" "}
          since: {changes(b.there)}.{" "}
          <Link to={`/p/${here.key}/handoffs/between?${new URLSearchParams({ from: `h${b.since}`, to: b.name })}`} className="underline">
            Its changes, asset by asset
          </Link>
          ;{" "}
          <Link to={`/p/${here.key}/assets?${new URLSearchParams({ at: b.name })}`} className="underline">
            its assets
          </Link>
        </p>
      )}
      <Doings here={here} branch={b} onAsk={() => setAsking(true)} />
      {(b.clashing ?? 0) > 0 && (
        <section className="mt-6">
          <h2 className="mb-1">Changed on both, and to be decided when they meet ({b.clashing})</h2>
          <ul>
            {b.clashes?.map((path) => (
              <li key={path}>
                <Link to={assetPath(here.key, path)} className="break-all">
                  {path}
                </Link>
              </li>
            ))}
          </ul>
        </section>
      )}
      {(b.workspaces?.length ?? 0) > 0 && (
        <p className="mt-4 text-peat">On it: {b.workspaces!.map((w) => `${w.handle} (${w.workspace})`).join(", ")}</p>
      )}
      <Reviews here={here} of={{ branch: b.name }} />
      {asking && <AskToLook here={here} of={b.name} onClose={() => setAsking(false)} />}
    </>
  );
}

function Doings({ here, branch: b, onAsk }: { here: Here; branch: Branch; onAsk: () => void }) {
  const act = useAct(here.key, (state: string) => setState(here.key, b.name, state));
  if (!here.maySend || !b.from) return null;
  const mayClose = here.mayLead || b.person === here.me;
  return (
    <div className="mt-4 flex flex-wrap items-center gap-2">
      {b.state !== "closed" && b.ahead > 0 && (
        <Link
          to={`/p/${here.key}/merge?${new URLSearchParams({ from: b.name, into: b.from })}`}
          className="rounded-md border border-copper bg-copper px-2.5 py-1 text-sm font-medium text-on-copper no-underline hover:brightness-110"
        >
          Bring it into {b.from}
        </Link>
      )}
      {b.state !== "closed" && b.behind > 0 && (
        <Link
          to={`/p/${here.key}/merge?${new URLSearchParams({ from: b.from, into: b.name })}`}
          className="rounded-md border border-line px-2.5 py-1 text-sm font-medium no-underline hover:border-copper"
        >
          Bring {b.from} in here
        </Link>
      )}
      {b.state !== "closed" && <Button onClick={onAsk}>Ask people to look</Button>}
      {b.state === "live" && <Button onClick={() => act.mutate("done")}>It is ready to come in</Button>}
      {b.state !== "closed" && mayClose && <Button onClick={() => act.mutate("closed")}>Close it</Button>}
      {b.state !== "live" && (b.state === "done" || mayClose) && <Button onClick={() => act.mutate("live")}>Go on with it</Button>}
      <Trouble error={act.error} />
    </div>
  );
}
