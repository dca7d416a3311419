// Made from the tables of the core by UPDATE=1 go test ./internal/api.

/** Kinds of asset, in the order in which they are shown. */
export const assetKinds = [
  "texture",
  "model",
  "sound",
  "schematic",
  "board",
  "data",
  "text",
  "table",
  "document",
  "other",
] as const;

/** The branch that each project begins with. */
export const firstBranch = "main";

/** Kinds of news; what is urgent is told at once. */
export const newsKinds = [
  { name: "turn", short: "turns", urgent: true },
  { name: "asked", short: "asks", urgent: true },
  { name: "answered", short: "answers", urgent: true },
  { name: "lost", short: "locks taken away or forgotten", urgent: true },
  { name: "waits", short: "waiting", urgent: false },
  { name: "review", short: "reviews", urgent: true },
  { name: "rules", short: "rules", urgent: false },
  { name: "work", short: "handoffs", urgent: false },
] as const;

/** How a hold ended, by the word that the record has, in the words for people. */
export const endings: Record<string, string> = {
  "held": "held still",
  "sent": "sent",
  "given-back": "given back",
  "given": "given to the next",
  "overridden": "taken away",
  "brought": "brought to another workspace",
  "removed": "left the project",
};
