import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Problem, sendFile, type Asset } from "../api/client";
import type { Here } from "../pages/project/ProjectFrame";
import { Ask, fieldClass } from "./Ask";
import { Button } from "./Button";
import { Trouble } from "./Trouble";
import { size } from "./words";

interface Props {
  here: Here;
  file: File;
  /** the asset that it becomes a version of, or the path of a new one */
  target: Asset | string;
  onClose: () => void;
}

/** DropFile asks for a note and sends a dropped file. */
export function DropFile({ here, file, target, onClose }: Props) {
  const [note, setNote] = useState("");
  const [share, setShare] = useState<number>();
  const [error, setError] = useState<unknown>();
  const queries = useQueryClient();
  const fresh = typeof target === "string";
  const path = fresh ? target : target.path;
  const base = fresh ? 0 : target.newest;
  const send = async (older = false) => {
    setError(undefined);
    setShare(0);
    try {
      await sendFile(here.key, { file, path, base, note, keepLock: false, older }, setShare);
      await queries.invalidateQueries({ queryKey: ["project", here.key] });
      onClose();
    } catch (e) {
      setError(e);
      setShare(undefined);
    }
  };
  const goesBack = error instanceof Problem ? error.details.refusals?.find((r) => r.reason === "older-version") : undefined;
  return (
    <Ask open title={fresh ? "Send a new asset" : `Send version ${base + 1}`} action="Send" busy={share !== undefined} disabled={!note.trim()} onAct={() => void send()} onClose={onClose}>
      <p>
        <span className="text-ink">{file.name}</span>, {size(file.size)}, becomes {fresh ? "" : `version ${base + 1} of `}
        <span className="text-ink">{path}</span>.{!fresh && " The versions before it stay, and your lock is given back."}
      </p>
      <label className="block">
        <span className="mb-1 block text-ink">Note</span>
        <textarea className={fieldClass} name="note" rows={3} placeholder="What was done, and why" value={note} onChange={(e) => setNote(e.target.value)} />
      </label>
      {share !== undefined && (
        <div role="progressbar" aria-label="Sending" aria-valuenow={Math.round(share * 100)} className="h-1.5 bg-stone">
          <div className="h-full bg-copper" style={{ width: `${share * 100}%` }} />
        </div>
      )}
      {goesBack ? (
        <div role="alert" className="space-y-2 border-l-3 border-copper px-3 py-2 text-sm">
          <p className="text-ink">{goesBack.message.charAt(0).toUpperCase() + goesBack.message.slice(1)}.</p>
          <Button onClick={() => void send(true)}>Send it all the same</Button>
        </div>
      ) : <Trouble error={error} />}
    </Ask>
  );
}
