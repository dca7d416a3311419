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

/** The orders in which assets are listed. */
export const orders = [
  "name",
  "size",
  "version",
  "date",
  "person",
] as const;

/** How an asset may stand in reviews. */
export const reviewStates = [
  "remarked",
  "settled",
  "open",
  "agreed",
] as const;

/** What the record can be asked about. */
export const recordSubjects = [
  "handoffs",
  "locks",
  "branches",
  "milestones",
  "reviews",
  "kits",
  "rules",
  "people",
  "sign-ins",
  "project",
  "outside",
  "workspaces",
  "content",
] as const;

const endingKinds: Record<string, (typeof assetKinds)[number]> = {
  ".png": "texture",
  ".jpg": "texture",
  ".jpeg": "texture",
  ".gif": "texture",
  ".bmp": "texture",
  ".tif": "texture",
  ".tiff": "texture",
  ".webp": "texture",
  ".tga": "texture",
  ".psd": "texture",
  ".dds": "texture",
  ".exr": "texture",
  ".glb": "model",
  ".gltf": "model",
  ".obj": "model",
  ".stl": "model",
  ".wav": "sound",
  ".flac": "sound",
  ".ogg": "sound",
  ".oga": "sound",
  ".mp3": "sound",
  ".kicad_sch": "schematic",
  ".kicad_pcb": "board",
  ".gbr": "board",
  ".ger": "board",
  ".gtl": "board",
  ".gbl": "board",
  ".gto": "board",
  ".gbo": "board",
  ".gts": "board",
  ".gbs": "board",
  ".gtp": "board",
  ".gbp": "board",
  ".gm1": "board",
  ".gko": "board",
  ".drl": "board",
  ".xln": "board",
  ".exc": "board",
  ".json": "data",
  ".xml": "data",
  ".tmx": "data",
  ".tsx": "data",
  ".level": "data",
  ".scene": "data",
  ".yaml": "data",
  ".yml": "data",
  ".txt": "text",
  ".md": "text",
  ".toml": "text",
  ".ini": "text",
  ".cfg": "text",
  ".lua": "text",
  ".py": "text",
  ".js": "text",
  ".cs": "text",
  ".c": "text",
  ".h": "text",
  ".cpp": "text",
  ".glsl": "text",
  ".hlsl": "text",
  ".vert": "text",
  ".frag": "text",
  ".ink": "text",
  ".dialogue": "text",
  ".step": "text",
  ".stp": "text",
  ".mtl": "text",
  ".svg": "text",
  ".csv": "table",
  ".tsv": "table",
  ".pdf": "document",
};

/** kindOf is the kind of asset that a path stands for. */
export const kindOf = (path: string) => endingKinds[/[^/](\.[^./]*)$/.exec(path.toLowerCase())?.[1] ?? ""] ?? "other";

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
  { name: "project", short: "projects archived, deleted or filling up", urgent: true },
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

/** What a page says of a refusal in place of its remedy, and the ways out that it offers, by reason. */
export const waysOut: Record<string, { page: string; ways: Way[] }> = {
  "held": { page: "wait in line, or ask them to let go", ways: ["wait", "ask"] },
  "offered": { page: "wait in line", ways: ["wait"] },
  "held-elsewhere": { page: "send or give it back there, or bring the lock here", ways: ["bring"] },
  "free": { page: "it can be taken now", ways: ["lock", "again"] },
  "nobody-waits": { page: "look again", ways: ["again"] },
  "nobody-asked": { page: "look again", ways: ["again"] },
  "not-locked": { page: "lock it first, then send", ways: ["lock"] },
  "lock-lost": { page: "look at what came since; what you have stays with you, and can be sent as a file of its own", ways: ["lock", "again"] },
  "behind": { page: "look at the newest version first, then make yours of that one", ways: ["again"] },
  "apart": { page: "bring that branch in first, or go on from this version knowingly", ways: ["branch", "diverge"] },
  "moved-on": { page: "look at what came since, then choose again", ways: ["again"] },
  "edited": { page: "have them send it or put it away first", ways: [] },
  "older-version": { page: "if going back is meant, send it all the same", ways: ["older"] },
  "role": { page: "ask a lead", ways: [] },
  "rules-broken": { page: "mend the rules, then send again", ways: [] },
  "branch": { page: "hand it off on a branch of your own, which comes in by a merge", ways: ["branch"] },
  "unknown": { page: "check the spelling", ways: ["again"] },
  "changing": { page: "wait until it is written, then send it again", ways: [] },
  "not-an-asset": { page: "the rules say which files belong here", ways: [] },
  "move": { page: "leave it where it is", ways: ["again"] },
  "undecided": { page: "decide what is to become of it", ways: [] },
  "sending": { page: "wait until it has arrived", ways: [] },
  "large": { page: "split it, or ask a lead to change the rules", ways: [] },
};

export type Way = "again" | "ask" | "branch" | "bring" | "diverge" | "lock" | "older" | "wait";
