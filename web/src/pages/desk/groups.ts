import type { Asset, Standing } from "../../api/desk.gen";

/** Groups is what there is to do in a workspace, what wants one's hand first. */
export interface Groups {
  /** Changed here and newer there. */
  clashes: Asset[];
  /** A lock is offered to this workspace. */
  turns: Asset[];
  /** Somebody asks for a lock that one holds here. */
  asked: Asset[];
  /** Changed, moved or gone here, and not sent; new ones apart, so that nobody overlooks them. */
  changed: Asset[];
  fresh: Asset[];
  /** A newer version is there. */
  behind: Asset[];
  /** Held here, with nothing to send. */
  held: Asset[];
  /** Waited for. */
  waiting: Asset[];
  /** Somebody else has changes that were not sent, to what one has changed or holds. */
  warned: Asset[];
}

const changedStates = new Set(["edited", "gone"]);

export const mine = (s: Pick<Standing, "workspace">, a: Asset) => a.lock?.workspace_id === s.workspace;

export const wasMoved = (a: Asset) => a.state === "same" && !!a.moved_from;

/** groupsOf sorts the assets of a workspace. */
export function groupsOf(s: Pick<Standing, "workspace" | "assets">): Groups {
  const g: Groups = { clashes: [], turns: [], asked: [], changed: [], fresh: [], behind: [], held: [], waiting: [], warned: [] };
  for (const a of s.assets) {
    const changed = changedStates.has(a.state ?? "") || wasMoved(a);
    const line = a.waiting ?? [];
    if (a.state === "clash") g.clashes.push(a);
    else if (a.state === "new") g.fresh.push(a);
    else if (changed) g.changed.push(a);
    else if (a.state === "behind") g.behind.push(a);
    if (line[0]?.offered_until && line[0].workspace_id === s.workspace && !a.lock) g.turns.push(a);
    else if (line.some((w) => w.workspace_id === s.workspace)) g.waiting.push(a);
    if (mine(s, a)) {
      if ((a.lock?.asks ?? []).some((k) => !k.answer)) g.asked.push(a);
      if (!changed && a.state !== "clash") g.held.push(a);
    }
    if ((changed || a.state === "clash" || mine(s, a)) && (a.heads_up ?? []).some((h) => h.workspace_id !== s.workspace)) g.warned.push(a);
  }
  return g;
}

/** doing says in a word what became of an asset here. */
export function doing(a: Asset): string {
  if (a.state === "new") return "new";
  if (a.state === "gone") return "deleted here";
  if (wasMoved(a)) return `moved from ${a.moved_from}`;
  return a.moved_from ? `changed, and moved from ${a.moved_from}` : "changed";
}

/**
 * hasHere says whether a folder comes down, as core/scope does: the longest entry that it lies in says so, and one with a minus says no.
 * Where it lies in none, it does unless some entry that lies in no other one takes a folder in.
 */
export function hasHere(scope: readonly string[], folder: string): boolean {
  const entries = scope.map((s) => ({ name: s.replace(/^-/, ""), out: s.startsWith("-") }));
  const lies = (path: string, name: string) => path === name || path.startsWith(`${name}/`);
  const tops = entries.filter((e) => !entries.some((o) => o !== e && lies(e.name, o.name)));
  const best = entries.filter((e) => lies(folder, e.name)).sort((x, y) => y.name.length - x.name.length)[0];
  return best ? !best.out : tops.every((e) => e.out);
}
