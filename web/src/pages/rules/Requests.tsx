import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { changesOf } from "../../api/changes";
import { api, ask, type Schemas } from "../../api/client";
import { Ask, fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";
import { When } from "../../parts/words";
import type { Here } from "../project/ProjectFrame";

type Request = Schemas["RuleRequest"];

/** Requests are the paths that people would like to be assets: leads decide. */
export function Requests({ here, requests }: { here: Here; requests: Request[] }) {
  const open = requests.filter((r) => !r.answered);
  const answered = requests.filter((r) => r.answered).slice(0, 5);
  return (
    <section aria-labelledby="requests">
      <h2 id="requests" className="mb-2">
        Asked for
      </h2>
      {open.length === 0 && (
        <p className="text-peat">
          Nothing waits. Who needs a path that is left out asks with <code>tarn rules include PATH</code>.
        </p>
      )}
      <ul className="space-y-4">
        {open.map((r) => (
          <li key={r.id} className="border-l-3 border-copper pl-4">
            <p className="font-medium break-all">{r.path}</p>
            <p className="text-peat">
              {r.person} asks that it be an asset, <When at={r.at} />
              {r.reason && <>: {r.reason}</>}
            </p>
            {here.mayLead && <Decide here={here} request={r} />}
          </li>
        ))}
      </ul>
      {answered.length > 0 && (
        <ul className="mt-4 space-y-1 text-peat">
          {answered.map((r) => (
            <li key={r.id} className="break-all">
              {r.path}: {r.accepted ? "accepted" : "declined"} by {r.answered_by}, <When at={r.answered!} />
              {r.word && <>: {r.word}</>}
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

function Decide({ here, request }: { here: Here; request: Request }) {
  const [asking, setAsking] = useState<"accept" | "decline">();
  const [word, setWord] = useState("");
  const queries = useQueryClient();
  const answer = useMutation({
    mutationFn: (accept: boolean) =>
      ask(
        api.POST("/projects/{project}/rules/requests/{request}/answer", {
          params: { path: { project: here.key, request: String(request.id) } },
          body: { accept, word },
        }),
      ),
    onSuccess: () => {
      setAsking(undefined);
      return changesOf(queries, here.key).all();
    },
  });
  const accept = asking === "accept";
  return (
    <div className="mt-2 flex gap-2">
      <Button kind="act" onClick={() => setAsking("accept")} aria-label={`Accept ${request.path}`}>
        Accept
      </Button>
      <Button onClick={() => setAsking("decline")} aria-label={`Decline ${request.path}`}>
        Decline
      </Button>
      <Ask
        open={!!asking}
        title={accept ? "Make it an asset?" : "Decline it?"}
        action={accept ? "Make it an asset" : "Decline"}
        busy={answer.isPending}
        onAct={() => answer.mutate(accept)}
        onClose={() => setAsking(undefined)}
      >
        <p className="break-all">
          {accept
            ? `A rule for ${request.path} is put at the end of tarn.toml and sent as a handoff in your name. Rolling tarn.toml back takes it out again.`
            : `${request.path} stays left out. ${request.person} sees your answer here.`}
        </p>
        <label className="block">
          <span className="mb-1 block text-ink">A word to {request.person}</span>
          <input className={fieldClass} value={word} onChange={(e) => setWord(e.target.value)} maxLength={500} />
        </label>
        <Trouble error={answer.error} />
      </Ask>
    </div>
  );
}
