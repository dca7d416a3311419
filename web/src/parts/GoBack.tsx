import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { changesOf } from "../api/changes";
import { api, ask, newKey, type Schemas } from "../api/client";
import { consoleSeat } from "../api/locks";
import type { Here } from "../pages/project/ProjectFrame";
import { Ask, fieldClass } from "./Ask";
import { remedy, sentence, Trouble } from "./Trouble";
import { plural } from "./words";

/** What is to go back: see the API's rollback. */
export type Back = Pick<Schemas["RollbackRequest"], "paths" | "version" | "to" | "all" | "without">;

const words: Record<string, (c: Schemas["RollbackChange"]) => string> = {
  back: (c) => `as in version ${c.to}`,
  returns: (c) => `returns as in version ${c.to}`,
  moves: (c) => `back from ${c.moved_from}`,
  goes: () => "goes: it was not there",
};

const most = 8;

/** GoBack shows what going back would do, and does it. It becomes a new handoff; nothing is deleted. */
export function GoBack({
  here,
  title,
  back,
  seat = consoleSeat,
  onClose,
}: {
  here: Here;
  title: string;
  back: Back;
  seat?: string;
  onClose: () => void;
}) {
  const queries = useQueryClient();
  const [note, setNote] = useState("");
  const roll = (preview: boolean, seen = 0) =>
    ask(
      api.POST("/projects/{project}/rollback", {
        params: { path: { project: here.key }, header: { "Idempotency-Key": newKey() } },
        body: { workspace: seat, ...back, ...(preview ? { preview } : { note, seen }) },
      }),
    );
  const plan = useQuery({ queryKey: ["project", here.key, "rollback", back], queryFn: () => roll(true), gcTime: 0, retry: false });
  const act = useMutation({
    mutationFn: () => roll(false, plan.data?.seen),
    onSuccess: () => {
      onClose();
      return changesOf(queries, here.key).all();
    },
  });
  const changes = plan.data?.changes ?? [];
  const refusals = plan.data?.refusals ?? [];
  return (
    <Ask
      open
      title={title}
      action="Go back"
      busy={act.isPending}
      disabled={!plan.data || refusals.length > 0}
      onAct={() => act.mutate()}
      onClose={onClose}
    >
      {plan.isPending && <p>Looking at what that would do …</p>}
      {plan.data && (
        <>
          <p>
            A new handoff of {plural(changes.length, "asset")}, for everyone. Nothing is deleted: what is there now stays in the history,
            and can be gone back to in the same way.
          </p>
          <ul className="max-h-56 overflow-y-auto border-y border-line py-1.5">
            {changes.slice(0, most).map((c) => (
              <li key={c.path} className="py-0.5 break-all">
                <span className="text-ink">{c.path}</span> {words[c.change]?.(c)}
              </li>
            ))}
            {changes.length > most && <li className="py-0.5">and {changes.length - most} more</li>}
          </ul>
          {refusals.length > 0 && (
            <div role="alert" className="text-rust">
              <p>This stands in the way:</p>
              <ul>
                {refusals.map((r) => (
                  <li key={r.path + r.reason} className="wrap-anywhere">
                    {sentence(r.message)} {remedy(r) && sentence(remedy(r))}
                  </li>
                ))}
              </ul>
            </div>
          )}
          {plan.data.heads_up.map((h) => (
            <p key={h.path + h.workspace_id} className="text-ice">
              {h.handle} has unsent changes to {h.path}, in {h.workspace}.
            </p>
          ))}
          {refusals.length === 0 && (
            <label className="block">
              <span className="mb-1 block">Why</span>
              <input className={fieldClass} value={note} onChange={(e) => setNote(e.target.value)} placeholder={plan.data.note} />
            </label>
          )}
        </>
      )}
      <Trouble error={plan.error ?? act.error} />
    </Ask>
  );
}
