import type { Lock } from "../api/client";
import { When } from "./words";

/** Holder says who holds an asset, always in words: yours in copper, somebody else's in ice. */
export function Holder({ lock, me, long = false }: { lock: Lock | undefined; me: string; long?: boolean }) {
  if (!lock) return <span className="text-peat">free</span>;
  const mine = lock.holder === me;
  return (
    <span title={`${lock.workspace}${lock.note ? `: ${lock.note}` : ""}`}>
      <span className={`rounded-md px-1.5 py-0.5 font-medium ${mine ? "bg-copper-wash text-copper" : "bg-ice-wash text-ice"}`}>
        {mine ? "yours" : lock.holder}
      </span>
      {long && (
        <span className="text-peat">
          {" "}
          taken <When at={lock.since} /> in {lock.workspace}
          {lock.note && <> for “{lock.note}”</>}
        </span>
      )}
    </span>
  );
}
