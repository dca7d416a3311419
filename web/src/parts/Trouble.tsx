import { Problem, type Schemas } from "../api/client";
import { waysOut } from "../api/words.gen";

/** A remedy that names commands is for a terminal. */
const forTerminals = /\btarnd? [a-z]/;

/** plainly is a text without the sentences that are for a terminal, with a full stop. */
export function plainly(text: string): string {
  const kept = text.split(". ").filter((s, i) => i === 0 || !forTerminals.test(s));
  return `${kept.join(". ").replace(/\.$/, "")}.`;
}

/** remedy is what a page says to do about something, in words; "" where it has none but a command. */
export function remedy(r: Pick<Schemas["Refusal"], "reason" | "remedy">): string {
  return waysOut[r.reason]?.page ?? (forTerminals.test(r.remedy) ? "" : r.remedy);
}

/** Trouble shows why something was not done, in the service's words, and what to do. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) return null;
  const d = error instanceof Problem ? error.details : undefined;
  const reasons = d?.refusals?.length
    ? d.refusals
    : [{ path: "", reason: "", message: d?.detail ?? String(error), remedy: d?.remedy ?? "" }];
  return (
    <div role="alert" className="border-l-3 border-rust bg-bank px-3 py-2 text-sm">
      {reasons.slice(0, most).map((r) => (
        <p key={r.path + r.reason + r.message} className="wrap-anywhere">
          <span className="text-rust">{sentence(r.message)}</span> {remedy(r) && <span className="text-peat">{sentence(remedy(r))}</span>}
        </p>
      ))}
      {reasons.length > most && <p className="text-peat">and so it is with {(reasons.length - most).toLocaleString("en")} more</p>}
    </div>
  );
}

const most = 12;

/** sentence begins a text with a capital and ends it with a full stop; a path that it begins with stays as it is spelled. */
export function sentence(text: string) {
  const path = /[./\\]/.test(text.split(/[\s:]/, 1)[0] ?? "");
  const s = path ? text : text.charAt(0).toUpperCase() + text.slice(1);
  return /[.!?]$/.test(s) ? s : `${s}.`;
}
