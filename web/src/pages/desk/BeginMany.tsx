import { useState } from "react";
import type { Asset } from "../../api/client";
import { atDesk, useDesk, type Workspace } from "../../api/desk";
import { outcomes } from "../../acts/outcomes";
import { Ask } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";
import { plural } from "../../parts/words";
import { Far } from "./Newer";
import { useWork } from "./useWork";
import { WhichFolder } from "./WhichFolder";

/** BeginMany begins all that was chosen on this machine. Elsewhere there is nothing to begin with. */
export function BeginMany({ project, assets, onDone }: { project: string; assets: Asset[]; onDone: () => void }) {
  const [open, setOpen] = useState(false);
  const places = useDesk().workspaces.filter((w) => w.project === project);
  if (!atDesk || places.length === 0) return null;
  return (
    <>
      <Button kind="act" onClick={() => setOpen(true)}>
        Begin
      </Button>
      {open && <Begin places={places} assets={assets} onClose={() => setOpen(false)} onDone={onDone} />}
    </>
  );
}

/** So many files are opened in their programs at once; the desk opens no more. */
const opens = 5;

interface Props {
  places: Workspace[];
  assets: Asset[];
  onClose: () => void;
  onDone: () => void;
}

function Begin({ places, assets, onClose, onDone }: Props) {
  const [workspace, setWorkspace] = useState(places[0]!.workspace);
  const done = (n: number) => {
    outcomes.done("begin", `${plural(n, "asset is", "assets are")} begun, and yours`);
    onClose();
    onDone();
  };
  const begin = useWork("begin", (answer) => {
    if (answer.refusals.length + answer.heads_up.length === 0) done(answer.locks.length);
  });
  const few = assets.length <= opens;
  const came = begin.data;
  return (
    <Ask
      open
      title={came ? `${plural(came.locks.length, "asset is", "assets are")} yours` : `Begin ${plural(assets.length, "asset")}?`}
      action={came ? "Done" : "Begin"}
      busy={begin.isPending}
      onAct={() => (came ? done(came.locks.length) : begin.mutate({ workspace, paths: assets.map((a) => a.path), any: true, open: few }))}
      onClose={onClose}
    >
      {!came && (
        <p>
          The newest version of each comes here, and its lock is taken.{" "}
          {few ? "They open in their programs." : `They are not opened: that is done for ${opens} at once at most.`}
        </p>
      )}
      {!came && <WhichFolder places={places} chosen={workspace} onChoose={setWorkspace} />}
      {begin.isPending && <Far progress={begin.progress} />}
      {came?.heads_up.map((h) => (
        <p key={h.path + h.workspace_id} className="text-ice wrap-anywhere">
          {h.handle} has changes to {h.path} that were not sent.
        </p>
      ))}
      {came && came.refusals.length > 0 && (
        <ul className="max-h-56 overflow-y-auto text-rust">
          {came.refusals.slice(0, 200).map((r) => (
            <li key={r.path + r.reason} className="wrap-anywhere">
              {r.message}
            </li>
          ))}
        </ul>
      )}
      <Trouble error={begin.error} />
    </Ask>
  );
}
