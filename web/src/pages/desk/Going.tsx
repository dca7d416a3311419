import type { Workspace } from "../../api/desk";
import type { UnderWay } from "../../api/desk.gen";
import { Button } from "../../parts/Button";
import { firstLine, plural, size } from "../../parts/words";
import { useWork } from "./useWork";
import { Refused } from "./WaysOut";
import { Problem } from "../../api/client";

/** Going is a send that goes on in the background. */
export function Going({ w, job }: { w: Workspace; job: UnderWay }) {
  const cancel = useWork("cancel_sends");
  if (job.refusals?.length) {
    return (
      <div className="border-l-3 border-rust pl-3">
        <p>
          A send was refused: <span className="text-peat">{firstLine(job.note)}</span>. Your files are as they were; send again when this is
          cleared.
        </p>
        <Refused
          w={w}
          error={
            new Problem({ type: "urn:kettletarn:refused", title: "Refused", status: 422, detail: "", remedy: "", refusals: job.refusals })
          }
        />
      </div>
    );
  }
  return (
    <div className="border-l-3 border-ice pl-3">
      <p>
        <span className="text-ice">On its way</span>, {plural(job.paths.length, "asset")}, {size(job.size)}: {firstLine(job.note)}
      </p>
      <Bar part={job.percent / 100} label={`Sending ${firstLine(job.note)}`} />
      {job.trouble && <p className="text-rust">It waits: {job.trouble}</p>}
      <p className="mt-1 text-peat">
        You can go on editing.{" "}
        <Button kind="quiet" disabled={cancel.isPending} onClick={() => cancel.mutate({ workspace: w.workspace })}>
          Take it back
        </Button>
      </p>
    </div>
  );
}

/** Bar is how far something is, from 0 to 1. */
export function Bar({ part, label }: { part: number; label: string }) {
  return (
    <progress
      value={Math.min(1, Math.max(0, part))}
      max={1}
      aria-label={label}
      className="mt-1 h-2 w-full max-w-md overflow-hidden rounded-full accent-ice"
    >
      {Math.round(part * 100)}%
    </progress>
  );
}
