import { useState } from "react";
import { Link } from "react-router";
import { api, ask } from "../../api/client";
import { Ask, fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";
import { plural, When } from "../../parts/words";
import { useAct } from "../branches/useBranches";
import type { Here } from "../project/ProjectFrame";
import { AnswerForm, Answers, RemarkList, Say } from "./Conversation";
import { useReview, useReviewActs, useReviews } from "./useReview";

/** Reviews are the conversations about a branch, or about a handoff. */
export function Reviews({ here, of }: { here: Here; of: { branch: string } | { handoff: number } }) {
  const found = useReviews(here.key);
  const about = found.data?.reviews.filter((r) => ("branch" in of ? r.branch === of.branch : !r.branch && r.handoff === of.handoff)) ?? [];
  return (
    <>
      {about.map((r) => (
        <ReviewPart key={r.number} here={here} number={r.number} />
      ))}
    </>
  );
}

/** ReviewPart is one conversation: who was asked and answered what, and what was said, each thing beside what it points at. */
function ReviewPart({ here, number }: { here: Here; number: number }) {
  const found = useReview(here.key, number);
  const acts = useReviewActs(here.key, number);
  const r = found.data;
  if (!r) return <Trouble error={found.error} />;
  const closed = !!r.closed;
  return (
    <section className="mt-8 border-t border-line pt-4" aria-label={`Review r${r.number}`}>
      <h2>
        r{r.number}: {r.text}
      </h2>
      <p className="text-peat">
        {r.person}, <When at={r.at} />
        {closed && (
          <>
            ; closed by {r.closer}, <When at={r.closed!} />
          </>
        )}
      </p>
      <p className="my-3">
        <Link
          to={reviewPath(here.key, r.number)}
          className="rounded-md border border-line px-2.5 py-1 text-sm font-medium no-underline hover:border-copper"
        >
          Look at it, one thing after the other
        </Link>
        {r.open > 0 && <span className="ml-3 text-peat">{plural(r.open, "remark")} open</span>}
      </p>
      <Answers review={r} />
      {!closed && (
        <AnswerForm review={r} acts={acts}>
          {(here.mayLead || r.person === here.me) && (
            <Button kind="quiet" onClick={() => acts.close.mutate(undefined)}>
              Close the review
            </Button>
          )}
        </AnswerForm>
      )}
      <Trouble error={acts.answer.error ?? acts.settle.error ?? acts.close.error} />
      <RemarkList here={here} review={r} acts={acts} list={r.remarks?.filter((m) => !m.answers) ?? []} pictures />
      {!closed && <Say onSay={(text, done) => acts.say.mutate({ text }, { onSuccess: done })} label="Say something" />}
      <Trouble error={acts.say.error} />
    </section>
  );
}

/** reviewPath is where a review is gone through, one thing after the other; path is the thing that comes first. */
export const reviewPath = (key: string, number: number, path = "") =>
  `/p/${key}/reviews/${number}${path && `?${new URLSearchParams({ path })}`}`;

/** AskToLook opens a review of a branch, or of a handoff (h40). */
export function AskToLook({ here, of, onClose }: { here: Here; of: string; onClose: () => void }) {
  const [text, setText] = useState("");
  const [handles, setHandles] = useState("");
  const act = useAct(
    here.key,
    () =>
      ask(
        api.POST("/projects/{project}/reviews", {
          params: { path: { project: here.key } },
          body: { of, text, ask: handles.split(/[\s,]+/).filter(Boolean) },
        }),
      ),
    onClose,
  );
  return (
    <Ask
      open
      title={`Ask people to look at ${of}`}
      action="Ask them"
      busy={act.isPending}
      disabled={text.trim() === ""}
      onAct={() => act.mutate(undefined)}
      onClose={onClose}
    >
      <label className="block">
        <span className="mb-1 block">What is to be looked at</span>
        <input className={fieldClass} value={text} onChange={(e) => setText(e.target.value)} />
      </label>
      <label className="block">
        <span className="mb-1 block">Who is asked</span>
        <input className={fieldClass} value={handles} onChange={(e) => setHandles(e.target.value)} placeholder="tamsin, rurik" />
      </label>
      <Trouble error={act.error} />
    </Ask>
  );
}
