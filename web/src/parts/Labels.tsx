import { firstBranch } from "../api/words.gen";
import { Task } from "./Task";

interface Labelled {
  tasks: string[];
  milestones?: string[];
  stage?: string;
  commit?: string;
  branch: string;
  parents: number[];
}

/** Labels are the branch where it is not the first one, what it brought together, the milestones, the task ids and the stage of a handoff, the commit that it was brought in from, and those that pin it. */
export function Labels({ handoff, pinnedBy = [] }: { handoff: Labelled; pinnedBy?: { commit: string; subject: string }[] }) {
  return (
    <span className="text-xs">
      {handoff.branch !== firstBranch && (
        <span className="mr-1.5 rounded-md border border-ice px-1.5 py-0.5 text-ice" title="branch">
          {handoff.branch}
        </span>
      )}
      {handoff.parents.length > 1 && (
        <span className="mr-1.5 text-ice" title={`made on ${handoff.parents.map((p) => `h${p}`).join(" and ")}`}>
          brings in h{handoff.parents[1]}
        </span>
      )}
      {handoff.milestones?.map((m) => (
        <strong key={m} className="mr-1.5 rounded-md border border-copper px-1.5 py-0.5 font-semibold text-copper" title="milestone">
          {m}
        </strong>
      ))}
      {handoff.tasks.map((t) => (
        <Task key={t} id={t} />
      ))}
      {handoff.stage && <span className="mr-1.5 rounded-md bg-stone px-1.5 py-0.5 text-ink">{handoff.stage}</span>}
      {handoff.commit && (
        <span className="mr-1.5 text-peat" title={handoff.commit}>
          from commit <code>{handoff.commit.slice(0, 10)}</code>
        </span>
      )}
      {pinnedBy.map((p) => (
        <span key={p.commit} className="mr-1.5 text-ice" title={`${p.commit}: ${p.subject}`}>
          pinned by commit <code>{p.commit.slice(0, 10)}</code>
        </span>
      ))}
    </span>
  );
}
