import { useState, type ReactNode, type Ref } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Diamond, spotPlace } from "../../parts/Pointing";
import { Picture } from "../../parts/Picture";
import { assetPath, When } from "../../parts/words";
import type { Here } from "../project/ProjectFrame";
import type { Acts, Review } from "./useReview";

export type Remark = Schemas["Remark"];

/** Answers are what people said of the whole. */
export function Answers({ review: r }: { review: Review }) {
  return (
    <ul className="mt-2">
      {r.answers.map((a) => (
        <li key={a.person}>
          <span className={`font-medium ${a.old ? "text-peat" : a.yes ? "text-ice" : "text-copper"}`}>
            {a.person} says {a.yes ? "yes" : "not yet"}
          </span>
          {a.old && <span className="text-peat"> to h{a.head}, before it moved on</span>}
          {a.why && <>: {a.why}</>}{" "}
          <span className="text-peat">
            <When at={a.at} />
          </span>
        </li>
      ))}
      {r.waits.length > 0 && <li className="text-peat">Asked, and not answered yet: {r.waits.join(", ")}</li>}
    </ul>
  );
}

/** AnswerForm takes one's answer to the whole. */
export function AnswerForm({ review: r, acts, children }: { review: Review; acts: Acts; children?: ReactNode }) {
  const [why, setWhy] = useState("");
  return (
    <form
      className="mt-3 flex flex-wrap items-center gap-2"
      onSubmit={(e) => e.preventDefault()}
      aria-label={`Your answer to r${r.number}`}
    >
      <input
        className={`${fieldClass} max-w-md`}
        value={why}
        onChange={(e) => setWhy(e.target.value)}
        placeholder="Why, or what is missing"
        aria-label="Why, or what is missing"
      />
      <Button kind="act" onClick={() => acts.answer.mutate({ yes: true, why }, { onSuccess: () => setWhy("") })}>
        Yes
      </Button>
      <Button disabled={why.trim() === ""} onClick={() => acts.answer.mutate({ yes: false, why }, { onSuccess: () => setWhy("") })}>
        Not yet
      </Button>
      {children}
    </form>
  );
}

interface RemarkListProps {
  here: Here;
  review: Review;
  acts: Acts;
  list: Remark[];
  /** Whether each has a picture of what it points at beside it. */
  pictures?: boolean;
  /** What is said of where a remark is, where that is not its own version and spot. */
  where?: (m: Remark) => ReactNode;
  chosen?: number | undefined;
}

/** RemarkList is what was said, with its answers. */
export function RemarkList({ here, review: r, acts, list, pictures = false, where, chosen }: RemarkListProps) {
  const closed = !!r.closed;
  return (
    <ol className="mt-4 space-y-4">
      {list.map((m) => (
        <li
          key={m.number}
          id={`remark-${m.number}`}
          className={
            pictures
              ? "grid gap-4 sm:grid-cols-[11rem_minmax(0,1fr)]"
              : `border-l-3 pl-3 ${chosen === m.number ? "border-copper" : "border-line"}`
          }
        >
          {pictures && <Thing here={here} remark={m} />}
          <div className="min-w-0">
            <p className={m.settled ? "text-peat" : ""}>
              {!pictures && m.where && (
                <>
                  <Diamond number={m.number} settled={!!m.settled} />{" "}
                </>
              )}
              {m.text}
            </p>
            <p className="text-peat">
              {m.person}, <When at={m.at} />
              {where
                ? where(m)
                : m.path && (
                    <>
                      ;{" "}
                      <Link to={`${assetPath(here.key, m.path)}?version=${m.version}`} className="break-all">
                        {m.path}
                      </Link>{" "}
                      v{m.version}
                      {m.where && <>, {m.where}</>}
                    </>
                  )}
              {m.settled && <>; settled by {m.settler}</>}
            </p>
            {r.remarks
              ?.filter((x) => x.answers === m.number)
              .map((x) => (
                <p key={x.number} className="mt-1 border-l-2 border-line pl-3">
                  {x.text}{" "}
                  <span className="text-peat">
                    {x.person}, <When at={x.at} />
                  </span>
                </p>
              ))}
            {!closed && (
              <Say
                onSay={(text, done) => acts.say.mutate({ text, answers: m.number }, { onSuccess: done })}
                label={`Answer remark ${m.number}`}
              >
                {here.maySend && (
                  <Button kind="quiet" onClick={() => acts.settle.mutate({ remark: m.number, settled: !m.settled })}>
                    {m.settled ? "Open it again" : "Settled"}
                  </Button>
                )}
              </Say>
            )}
          </div>
        </li>
      ))}
    </ol>
  );
}

/** Thing is what a remark points at, with a mark on the place that it means. */
function Thing({ here, remark: m }: { here: Here; remark: Remark }) {
  if (!m.path || !m.version) return <span />;
  const at = spotPlace(m.where);
  return (
    // The picture is as wide as it is, so that a place in it is the same place in the span.
    <span className="relative block justify-self-start self-start">
      <Picture project={here.key} path={m.path} version={m.version} edge={320} className="max-h-32 min-w-8 max-w-full rounded-md" />
      {at && (
        <span className="absolute -translate-1/2" style={{ left: `${at.x}%`, top: `${at.y}%` }}>
          <Diamond number={m.number} settled={!!m.settled} />
        </span>
      )}
    </span>
  );
}

/** Say is a field for a few words. */
export function Say({
  onSay,
  label,
  field,
  children,
}: {
  onSay: (text: string, done: () => void) => void;
  label: string;
  field?: Ref<HTMLInputElement>;
  children?: ReactNode;
}) {
  const [text, setText] = useState("");
  return (
    <form
      className="mt-2 flex flex-wrap items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (text.trim()) onSay(text, () => setText(""));
      }}
    >
      <input
        ref={field}
        className={`${fieldClass} max-w-md`}
        value={text}
        onChange={(e) => setText(e.target.value)}
        placeholder={label}
        aria-label={label}
      />
      <Button type="submit" disabled={text.trim() === ""}>
        Say it
      </Button>
      {children}
    </form>
  );
}
