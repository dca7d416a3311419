import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { memo, useState } from "react";
import { Link } from "react-router";
import { changesOf } from "../../api/changes";
import { api, ask, type Schemas } from "../../api/client";
import { useRows } from "../../api/rows";
import { Ask } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { List } from "../../parts/List";
import { NameState } from "../../parts/NameState";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { When } from "../../parts/words";
import { useHere, type Here } from "../project/ProjectFrame";
import { ShowOutside } from "../showings/ShowOutside";

type Milestone = Schemas["Milestone"];

/** Of more milestones than these, the latest are offered where one is chosen. */
const offered = 200;

/** useMilestones are the latest milestones, to choose from. */
export function useMilestones(key: string) {
  return useQuery({
    queryKey: ["project", key, "milestones", "latest"],
    queryFn: () => ask(api.GET("/projects/{project}/milestones", { params: { path: { project: key }, query: { limit: offered } } })),
  });
}

/** MilestonesPage lists the names that handoffs have, and what came since the one before each. */
export function MilestonesPage() {
  useTitle("Milestones");
  const here = useHere();
  const found = useRows<Milestone, Schemas["Milestones"]>({
    queryKey: ["project", here.key, "milestones"],
    fetch: (skip, limit) =>
      ask(api.GET("/projects/{project}/milestones", { params: { path: { project: here.key }, query: { skip, limit } } })),
    rows: (m) => m.milestones,
    total: (m) => m.total,
  });
  const [naming, setNaming] = useState(false);
  const [removing, setRemoving] = useState<Milestone>();
  return (
    <>
      <Trouble error={found.error} />
      {here.maySend && here.project.handoffs > 0 && (
        <Button className="mb-4" onClick={() => setNaming(true)}>
          Name the newest state
        </Button>
      )}
      {found.total === 0 && (
        <p className="max-w-prose text-peat">
          No handoff has a name yet. A milestone is a name that stays: a stable base, a vertical slice, a board that was sent to be made.
        </p>
      )}
      <List
        rows={found}
        height={100}
        measured
        label="Milestones"
        className="border-t border-line"
        row={(m, i) => <One here={here} milestone={m} before={found.at(i + 1)} onRemove={setRemoving} />}
      />
      {naming && <NameState here={here} at={`h${here.project.handoffs}`} onClose={() => setNaming(false)} />}
      {removing && <Remove milestone={removing} onClose={() => setRemoving(undefined)} />}
    </>
  );
}

interface OneProps {
  here: Here;
  milestone: Milestone;
  before: Milestone | undefined;
  onRemove: (m: Milestone) => void;
}

const One = memo(function One({ here, milestone: m, before, onRemove }: OneProps) {
  return (
    <div className="grid gap-x-6 gap-y-1 border-b border-line py-3 sm:grid-cols-[minmax(0,1fr)_auto]">
      <div>
        <Link to={`/p/${here.key}/handoffs/${m.handoff}`} className="text-lg font-semibold">
          {m.name}
        </Link>
        {m.note && <p className="max-w-prose">{m.note}</p>}
        <p className="text-peat">
          h{m.handoff}, handed off <When at={m.handed_off} />; named by {m.person}, <When at={m.at} />
        </p>
      </div>
      <p className="flex flex-wrap items-baseline gap-x-4 gap-y-1 sm:justify-end">
        {before && <Link to={`/p/${here.key}/handoffs/between?from=${before.name}&to=${m.name}`}>What came since {before.name}</Link>}
        <Link to={`/p/${here.key}/handoffs/between?from=${m.name}&to=newest`}>What came behind it</Link>
        <Link to={`/p/${here.key}/assets?at=${m.name}`}>The project as it was</Link>
        <ShowOutside here={here} kind="quiet" show={{ what: { at: m.name }, words: m.name }} />
        {here.mayLead && (
          <Button kind="quiet" onClick={() => onRemove(m)}>
            Remove
          </Button>
        )}
      </p>
    </div>
  );
});

function Remove({ milestone, onClose }: { milestone: Schemas["Milestone"]; onClose: () => void }) {
  const here = useHere();
  const queries = useQueryClient();
  const act = useMutation({
    mutationFn: () =>
      ask(api.DELETE("/projects/{project}/milestones/{milestone}", { params: { path: { project: here.key, milestone: milestone.name } } })),
    onSuccess: () => {
      onClose();
      return changesOf(queries, here.key).all();
    },
  });
  return (
    <Ask
      open
      title={`Remove the name ${milestone.name}?`}
      action="Remove the name"
      busy={act.isPending}
      onAct={() => act.mutate()}
      onClose={onClose}
    >
      <p>h{milestone.handoff} stays as it is. Links and commands that use the name stop working, until somebody gives it again.</p>
      <Trouble error={act.error} />
    </Ask>
  );
}
