import { useState, type ReactNode } from "react";
import { Link } from "react-router";
import { api, ask, type Schemas } from "../../api/client";
import { Ask, fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Picture } from "../../parts/Picture";
import { Trouble } from "../../parts/Trouble";
import { assetPath, When } from "../../parts/words";
import type { Here } from "../project/ProjectFrame";
import { useAct, useReview, useReviews } from "./useBranches";

type Review = Schemas["Review"];
type Remark = Schemas["Remark"];

/** Reviews are the conversations about a branch, or about a handoff. */
export function Reviews({ here, of }: { here: Here; of: { branch: string } | { handoff: number } }) {
  const found = useReviews(here.key);
  const about = found.data?.reviews.filter((r) => ("branch" in of ? r.branch === of.branch : !r.branch && r.handoff === of.handoff)) ?? [];
  return <>{about.map((r) => <ReviewPart key={r.number} here={here} number={r.number} />)}</>;
}

/** ReviewPart is one conversation: who was asked and answered what, and what was said, each thing beside what it points at. */
function ReviewPart({ here, number }: { here: Here; number: number }) {
  const found = useReview(here.key, number);
  const path = { project: here.key, review: String(number) };
  const answer = useAct(here.key, (body: Schemas["AnswerRequest"]) => ask(api.POST("/projects/{project}/reviews/{review}/answer", { params: { path }, body })));
  const say = useAct(here.key, (body: Schemas["RemarkRequest"]) => ask(api.POST("/projects/{project}/reviews/{review}/remarks", { params: { path }, body })));
  const settle = useAct(here.key, (body: Schemas["SettleRequest"]) => ask(api.POST("/projects/{project}/reviews/{review}/settle", { params: { path }, body })));
  const close = useAct(here.key, () => ask(api.POST("/projects/{project}/reviews/{review}/close", { params: { path } })));
  const [why, setWhy] = useState("");
  const r = found.data;
  if (!r) return <Trouble error={found.error} />;
  const closed = r.closed !== undefined && r.closed !== null;
  return (
    <section className="mt-8 border-t border-line pt-4" aria-label={`Review r${r.number}`}>
      <h2>r{r.number}: {r.text}</h2>
      <p className="text-peat">{r.person}, <When at={r.at} />{closed && <>; closed by {r.closer}, <When at={r.closed!} /></>}</p>
      <Answers review={r} />
      {!closed && (
        <form className="mt-3 flex flex-wrap items-center gap-2" onSubmit={(e) => e.preventDefault()} aria-label={`Your answer to r${r.number}`}>
          <input className={`${fieldClass} max-w-md`} value={why} onChange={(e) => setWhy(e.target.value)} placeholder="Why, or what is missing" aria-label="Why, or what is missing" />
          <Button kind="act" onClick={() => answer.mutate({ yes: true, why }, { onSuccess: () => setWhy("") })}>Yes</Button>
          <Button disabled={why.trim() === ""} onClick={() => answer.mutate({ yes: false, why }, { onSuccess: () => setWhy("") })}>Not yet</Button>
          {(here.mayLead || r.person === here.me) && <Button kind="quiet" onClick={() => close.mutate(undefined)}>Close the review</Button>}
        </form>
      )}
      <Trouble error={answer.error ?? settle.error ?? close.error} />
      <ol className="mt-4 space-y-4">
        {r.remarks?.filter((m) => !m.answers).map((m) => (
          <li key={m.number} className="grid gap-4 sm:grid-cols-[11rem_minmax(0,1fr)]">
            <Thing here={here} remark={m} />
            <div>
              <p className={m.settled ? "text-peat" : ""}>{m.text}</p>
              <p className="text-peat">
                {m.person}, <When at={m.at} />{m.path && <>; <Link to={`${assetPath(here.key, m.path)}?version=${m.version}`} className="break-all">{m.path}</Link> v{m.version}{m.where && <>, {m.where}</>}</>}
                {m.settled && <>; settled by {m.settler}</>}
              </p>
              {r.remarks?.filter((x) => x.answers === m.number).map((x) => <p key={x.number} className="mt-1 border-l-2 border-line pl-3">{x.text} <span className="text-peat">{x.person}, <When at={x.at} /></span></p>)}
              {!closed && (
                <Say onSay={(text, done) => say.mutate({ text, answers: m.number }, { onSuccess: done })} label={`Answer remark ${m.number}`}>
                  {here.maySend && <Button kind="quiet" onClick={() => settle.mutate({ remark: m.number, settled: !m.settled })}>{m.settled ? "Open it again" : "Settled"}</Button>}
                </Say>
              )}
            </div>
          </li>
        ))}
      </ol>
      {!closed && <Say onSay={(text, done) => say.mutate({ text }, { onSuccess: done })} label="Say something" />}
      <Trouble error={say.error} />
    </section>
  );
}

function Answers({ review: r }: { review: Review }) {
  return (
    <ul className="mt-2">
      {r.answers.map((a) => (
        <li key={a.person}>
          <span className={`font-medium ${a.old ? "text-peat" : a.yes ? "text-ice" : "text-copper"}`}>{a.person} says {a.yes ? "yes" : "not yet"}</span>
          {a.old && <span className="text-peat"> to h{a.head}, before it moved on</span>}{a.why && <>: {a.why}</>} <span className="text-peat"><When at={a.at} /></span>
        </li>
      ))}
      {r.waits.length > 0 && <li className="text-peat">Asked, and not answered yet: {r.waits.join(", ")}</li>}
    </ul>
  );
}

/** Thing is what a remark points at, with a mark on the place that it means. */
function Thing({ here, remark: m }: { here: Here; remark: Remark }) {
  if (!m.path || !m.version) return <span />;
  const at = /^([\d.]+)%,([\d.]+)%$/.exec(m.where ?? "");
  return (
    // The picture is as wide as it is, so that a place in it is the same place in the span.
    <span className="relative block justify-self-start self-start">
      <Picture project={here.key} path={m.path} version={m.version} edge={320} className="max-h-32 min-w-8 max-w-full rounded-md" />
      {at && <span aria-hidden className="absolute size-4 -translate-1/2 rotate-45 border-2 border-deep bg-copper" style={{ left: `${at[1]}%`, top: `${at[2]}%` }} />}
    </span>
  );
}

function Say({ onSay, label, children }: { onSay: (text: string, done: () => void) => void; label: string; children?: ReactNode }) {
  const [text, setText] = useState("");
  return (
    <form
      className="mt-2 flex flex-wrap items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (text.trim()) onSay(text, () => setText(""));
      }}
    >
      <input className={`${fieldClass} max-w-md`} value={text} onChange={(e) => setText(e.target.value)} placeholder={label} aria-label={label} />
      <Button type="submit" disabled={text.trim() === ""}>Say it</Button>
      {children}
    </form>
  );
}

/** AskToLook opens a review of a branch, or of a handoff (h40). */
export function AskToLook({ here, of, onClose }: { here: Here; of: string; onClose: () => void }) {
  const [text, setText] = useState("");
  const [handles, setHandles] = useState("");
  const act = useAct(
    here.key,
    () => ask(api.POST("/projects/{project}/reviews", { params: { path: { project: here.key } }, body: { of, text, ask: handles.split(/[\s,]+/).filter(Boolean) } })),
    onClose,
  );
  return (
    <Ask open title={`Ask people to look at ${of}`} action="Ask them" busy={act.isPending} disabled={text.trim() === ""} onAct={() => act.mutate(undefined)} onClose={onClose}>
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
