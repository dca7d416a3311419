import type { Schemas } from "../api/client";
import { When } from "./words";

const words: Record<string, string> = {
  edited: "changed",
  gone: "deleted",
  clash: "changed, and newer here",
  same: "moved",
  behind: "moved, and newer here",
};

/** Unsent says what somebody has not sent of one asset. */
export function Unsent({ head, me }: { head: Schemas["HeadsUp"]; me: string }) {
  return (
    <span>
      {head.handle === me ? "you" : head.handle}: {words[head.state] ?? head.state} <When at={head.since} /> in {head.workspace}, not sent
    </span>
  );
}
