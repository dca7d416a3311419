import type { Way } from "../api/words.gen";

/** What the button says that goes a way out of a refusal. */
export const wayWords: Record<Way, string> = {
  wait: "Wait in line",
  ask: "Ask them to let go",
  bring: "Bring the lock here",
  diverge: "Go on from this version",
  branch: "Look at the branches",
  lock: "Lock it",
  older: "Send it all the same",
  again: "Look again",
};
