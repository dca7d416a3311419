import type { Lock, Schemas } from "../api/client";
import { When } from "./words";

const ordinals = new Intl.PluralRules("en", { type: "ordinal" });
const suffixes: Record<string, string> = { one: "st", two: "nd", few: "rd", other: "th" };

/** ordinal is 1st, 2nd, 3rd … */
export const ordinal = (n: number) => `${n}${suffixes[ordinals.select(n)]}`;

/** clock is a time to come, for people. */
export const clock = (at: string) =>
  new Date(at).toLocaleString("en", { weekday: "short", hour: "2-digit", minute: "2-digit", hour12: false });

/** Line is who waits for a lock, in order, and what was asked of its holder. */
export function Line({ lock, me }: { lock: Lock; me: string }) {
  const asks = lock.asks ?? [];
  if (lock.waitlist.length === 0 && asks.length === 0) return null;
  return (
    <ul className="mt-1 space-y-0.5 text-peat">
      {lock.waitlist.map((w, i) => (
        <li key={w.handle}>
          {w.offered_until ? (
            <>
              <span className={w.handle === me ? "font-medium text-copper" : "text-ink"}>
                {w.handle === me ? "offered to you" : `offered to ${w.handle}`}
              </span>{" "}
              until {clock(w.offered_until)}
            </>
          ) : (
            <>
              <span className="text-ink">
                {ordinal(i + 1)} in line: {w.handle === me ? "you" : w.handle}
              </span>
              , <When at={w.since} />
            </>
          )}
          {w.note && !asks.some((k) => k.person === w.handle && k.reason === w.note) && <>, for “{w.note}”</>}
        </li>
      ))}
      {asks.map((k) => (
        <li key={k.person + k.at}>
          <Asked ask={k} lock={lock} me={me} />
        </li>
      ))}
    </ul>
  );
}

/** Asked says what somebody asked of a holder, and what the answer was. */
export function Asked({ ask, lock, me }: { ask: Schemas["Ask"]; lock: Lock; me: string }) {
  return (
    <>
      {ask.person === me ? "you ask" : `${ask.person} asks`} {lock.holder === me ? "you" : lock.holder} to let go: “{ask.reason}” (
      <When at={ask.at} />)
      {ask.answer === "not-yet" && (
        <>
          ; <span className="text-ink">not yet{ask.until && ` until ${clock(ask.until)}`}</span>
          {ask.word && <>: “{ask.word}”</>}
        </>
      )}
      {ask.unanswered && (
        <>
          ; <span className="text-rust">no answer yet</span>
        </>
      )}
    </>
  );
}
