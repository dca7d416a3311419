import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ask } from "../../api/client";
import { Ask, fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { plural, When } from "../../parts/words";
import { useHere, type Here } from "../project/ProjectFrame";
import { branchPath, useAct, useBranches, type Branch } from "./useBranches";
import { Waters } from "./Waters";

/** apart says how far a branch and the one that it came from are from each other. */
export function apart(b: Branch) {
  if (!b.from) return "";
  const parts = [b.ahead > 0 && `${plural(b.ahead, "handoff")} of its own`, b.behind > 0 && `${plural(b.behind, "handoff")} behind`].filter(
    Boolean,
  );
  return parts.length ? parts.join(", ") : `the same as ${b.from}`;
}

/** BranchesPage is what people try apart: how it left and came back, and how each stands. */
export function BranchesPage() {
  useTitle("Branches");
  const here = useHere();
  const found = useBranches(here.key);
  const [making, setMaking] = useState(false);
  // Where branches came in: the handoffs with two parents, as far back as a picture can show.
  const recent = useQuery({
    queryKey: ["project", here.key, "handoffs", "meetings"],
    queryFn: () => ask(api.GET("/projects/{project}/handoffs", { params: { path: { project: here.key }, query: { limit: 1000 } } })),
  });
  const list = found.data?.branches ?? [];
  const by = new Map(recent.data?.handoffs.map((h) => [h.number, h.branch]) ?? []);
  const meetings = new Map<string, number>();
  for (const h of recent.data?.handoffs ?? []) {
    const from = h.parents.length > 1 ? by.get(h.parents[1]!) : undefined;
    if (from && h.branch === list[0]?.name && !meetings.has(from)) meetings.set(from, h.number);
  }
  return (
    <>
      <div className="mb-4 flex flex-wrap items-baseline gap-x-6 gap-y-1">
        <h1>Branches</h1>
        {here.maySend && here.project.handoffs > 0 && <Button onClick={() => setMaking(true)}>Make a branch</Button>}
      </div>
      <Trouble error={found.error} />
      {list.length === 1 && (
        <p className="max-w-prose text-peat">
          Everything goes on {list[0]!.name} so far. A branch is for trying something without breaking what works; it copies nothing, and
          comes in once it is right.
        </p>
      )}
      {list.length > 1 && <Waters project={here.key} branches={list} meetings={meetings} newest={here.project.handoffs} />}
      <ul className="border-t border-line">
        {list.map((b) => (
          <li key={b.name} className="grid gap-x-6 gap-y-1 border-b border-line py-3 sm:grid-cols-[minmax(0,1fr)_auto]">
            <div className="min-w-0">
              <Link to={b.from ? branchPath(here.key, b.name) : `/p/${here.key}/handoffs`} className="text-lg font-semibold break-all">
                {b.name}
              </Link>{" "}
              {b.state !== "live" && <span className="text-peat">{b.state === "done" ? "done: ready to come in" : "closed"}</span>}
              {b.why && <p className="max-w-prose">{b.why}</p>}
              <p className="text-peat">
                {b.from ? (
                  <>
                    made by {b.person} from {b.from} at h{b.at}, <When at={b.made} />
                  </>
                ) : (
                  "the first one"
                )}
                {b.moved && (
                  <>
                    ; newest h{b.head} by {b.author}, <When at={b.moved} />
                  </>
                )}
              </p>
            </div>
            <p className="sm:text-right">
              {apart(b)}
              <span className="block text-peat">{plural(b.assets, "asset")}</span>
            </p>
          </li>
        ))}
      </ul>
      {making && <MakeBranch here={here} onClose={() => setMaking(false)} />}
    </>
  );
}

function MakeBranch({ here, onClose }: { here: Here; onClose: () => void }) {
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [at, setAt] = useState("");
  const [why, setWhy] = useState("");
  const act = useAct(
    here.key,
    () => ask(api.POST("/projects/{project}/branches", { params: { path: { project: here.key } }, body: { name, at, why } })),
    (b) => void navigate(branchPath(here.key, b.name)),
  );
  return (
    <Ask
      open
      title="Make a branch"
      action="Make it"
      busy={act.isPending}
      disabled={name === ""}
      onAct={() => act.mutate(undefined)}
      onClose={onClose}
    >
      <p>
        It begins at a state that is there, and goes its own way from then on. Nothing is copied; a workspace comes over to it when its
        owner wants.
      </p>
      <label className="block">
        <span className="mb-1 block">Name</span>
        <input className={fieldClass} value={name} onChange={(e) => setName(e.target.value)} placeholder="second-chapter" maxLength={60} />
      </label>
      <label className="block">
        <span className="mb-1 block">Where it begins</span>
        <input
          className={fieldClass}
          value={at}
          onChange={(e) => setAt(e.target.value)}
          placeholder="the newest; or h40, a milestone, a branch"
        />
      </label>
      <label className="block">
        <span className="mb-1 block">What it is for</span>
        <input className={fieldClass} value={why} onChange={(e) => setWhy(e.target.value)} />
      </label>
      <Trouble error={act.error} />
    </Ask>
  );
}
