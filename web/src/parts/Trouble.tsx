import { Problem } from "../api/client";

/** Trouble shows why something was not done, in the service's words, and what to do. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) return null;
  const d = error instanceof Problem ? error.details : undefined;
  const reasons = d?.refusals?.length ? d.refusals : [{ message: d?.detail ?? String(error), remedy: d?.remedy ?? "" }];
  return (
    <div role="alert" className="border-l-3 border-rust bg-bank px-3 py-2 text-sm">
      {reasons.map((r) => (
        <p key={r.message}>
          <span className="text-rust">{sentence(r.message)}</span> {r.remedy && <span className="text-peat">{sentence(r.remedy)}</span>}
        </p>
      ))}
    </div>
  );
}

function sentence(text: string) {
  const s = text.charAt(0).toUpperCase() + text.slice(1);
  return /[.!?]$/.test(s) ? s : `${s}.`;
}
