import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { changesOf } from "../api/changes";
import { api, ask } from "../api/client";
import type { Here } from "../pages/project/ProjectFrame";
import { Ask, fieldClass } from "./Ask";
import { Trouble } from "./Trouble";

/** NameState gives a handoff a name that stays. */
export function NameState({ here, at, onClose }: { here: Here; at: string; onClose: () => void }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [note, setNote] = useState("");
  const act = useMutation({
    mutationFn: () =>
      ask(api.POST("/projects/{project}/milestones", { params: { path: { project: here.key } }, body: { name, at, note } })),
    onSuccess: () => {
      onClose();
      return changesOf(queries, here.key).all();
    },
  });
  return (
    <Ask
      open
      title={`Name ${at}`}
      action="Name it"
      busy={act.isPending}
      disabled={name === ""}
      onAct={() => act.mutate()}
      onClose={onClose}
    >
      <p>A milestone stays with its handoff: it is never moved to another one. Commands take it wherever they take a handoff.</p>
      <label className="block">
        <span className="mb-1 block">Name</span>
        <input className={fieldClass} value={name} onChange={(e) => setName(e.target.value)} placeholder="vertical-slice" maxLength={60} />
      </label>
      <label className="block">
        <span className="mb-1 block">What it stands for</span>
        <input className={fieldClass} value={note} onChange={(e) => setNote(e.target.value)} />
      </label>
      <Trouble error={act.error} />
    </Ask>
  );
}
