import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { outcomes } from "../../acts/outcomes";
import { api, ask } from "../../api/client";
import { Ask } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { plural, When } from "../../parts/words";
import { useHere } from "../project/ProjectFrame";

/** EndingPage is what becomes of a project that is done: it is archived, or deleted. */
export function EndingPage() {
  const here = useHere();
  useTitle("What becomes of it");
  const owner = here.project.role === "owner";
  return (
    <div className="max-w-2xl space-y-10">
      {!owner && <p className="text-peat">The owners of {here.key} decide what becomes of it.</p>}
      <Archive owner={owner} />
      <Delete owner={owner} />
    </div>
  );
}

function Archive({ owner }: { owner: boolean }) {
  const here = useHere();
  const queries = useQueryClient();
  const archived = here.project.archived;
  const [asking, setAsking] = useState(false);
  const turn = useMutation({
    mutationFn: () =>
      ask(api.PUT("/projects/{project}/archived", { params: { path: { project: here.key } }, body: { archived: !archived } })),
    onSuccess: () => {
      setAsking(false);
      outcomes.done("archive", archived ? `${here.key} is back` : `${here.key} is archived`);
      return queries.invalidateQueries();
    },
  });
  return (
    <section aria-labelledby="archive">
      <h2 id="archive">{archived ? "It is archived" : "Archive it"}</h2>
      <p className="mt-1 mb-3 text-peat">
        {archived ? (
          <>
            Since <When at={archived} />: it is looked at, brought down and compared, and nothing in it changes.
          </>
        ) : (
          "For a project that is done: it is looked at, brought down and compared, and nothing in it changes. It stands out of the way, and comes back at any time."
        )}
      </p>
      {owner && <Button onClick={() => setAsking(true)}>{archived ? "Bring it back" : "Archive it"}</Button>}
      <Ask
        open={asking}
        title={archived ? `Bring ${here.key} back?` : `Archive ${here.key}?`}
        action={archived ? "Bring it back" : "Archive it"}
        busy={turn.isPending}
        onAct={() => turn.mutate()}
        onClose={() => setAsking(false)}
      >
        <p>
          {archived
            ? "Work goes on where it was: locks, lines and branches are as they were."
            : `Nobody locks or sends anything from then on; ${plural(here.project.locks, "lock")} and the lines stay as they are. ${plural(here.project.members, "person is", "people are")} told. An owner brings it back at any time.`}
        </p>
        <Trouble error={turn.error} />
      </Ask>
    </section>
  );
}

function Delete({ owner }: { owner: boolean }) {
  const here = useHere();
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [asking, setAsking] = useState(false);
  const [typed, setTyped] = useState("");
  const remove = useMutation({
    mutationFn: () => ask(api.POST("/projects/{project}/delete", { params: { path: { project: here.key } }, body: { key: typed.trim() } })),
    onSuccess: async () => {
      await navigate("/");
      await queries.invalidateQueries();
    },
  });
  return (
    <section aria-labelledby="delete">
      <h2 id="delete">Delete it</h2>
      <p className="mt-1 mb-3 text-peat">
        Everything in it goes: every version, its history, its record but for who deleted it. For some days an owner can bring it back; then
        it is gone for good.
      </p>
      {owner && <Button onClick={() => setAsking(true)}>Delete it</Button>}
      <Ask
        open={asking}
        title={`Delete ${here.key}?`}
        action="Delete it"
        busy={remove.isPending}
        disabled={typed.trim() !== here.key}
        onAct={() => remove.mutate()}
        onClose={() => setAsking(false)}
      >
        <p>
          {plural(here.project.assets, "asset")} with {plural(here.project.handoffs, "handoff")}.{" "}
          {plural(here.project.members, "person is", "people are")} told. Folders on people’s machines stay.
        </p>
        <Field label={`Type ${here.key} to delete it`} value={typed} onType={setTyped} autoComplete="off" autoCapitalize="none" />
        <Trouble error={remove.error} />
      </Ask>
    </section>
  );
}
