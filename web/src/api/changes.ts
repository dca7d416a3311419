import type { Query, QueryClient } from "@tanstack/react-query";
import { api, ask, type Asset, type Lock, type Schemas } from "./client";

/** Happened is what a page hears of, or did itself: an event's kind, and the paths that it is about. */
export interface Happened {
  kind: string;
  /** Of a handoff, edits says that no asset came, went or moved with it. */
  subject?: { paths?: string[]; count?: number; edits?: boolean };
}

/** Of more assets than this, lists are asked for again; up to it, each asset is asked for by itself and changed where it stands. */
const few = 3;

/** What is kept of a project goes by these names, the third part of its key; what is not among them never changes: looks, lines, comparisons. */
const kept = [
  "",
  "asset",
  "between",
  "branch",
  "branches",
  "folder",
  "handoff",
  "handoffs",
  "hooks",
  "kit",
  "kits",
  "lock",
  "locks",
  "members",
  "merge",
  "milestones",
  "pins",
  "review",
  "reviews",
  "rules",
  "showings",
  "spots",
  "twice",
  "unsent",
  "workspaces",
] as const;
export type Kept = (typeof kept)[number];

/** What else an event touches, by the beginning of its kind. Assets and their lists are looked at by path. */
const touches: [string, Kept[]][] = [
  ["lock.", ["locks"]],
  ["handoff.", ["", "handoffs", "between", "branch", "branches", "kits", "locks", "merge", "reviews", "spots", "twice", "unsent"]],
  ["past.", ["", "asset", "folder", "handoffs", "between", "branches"]],
  ["kit.", ["kits"]],
  ["milestone.", ["milestones", "handoff", "handoffs"]],
  ["branch.", ["branch", "branches", "merge"]],
  ["review.", ["review", "reviews", "merge", "spots", "branch"]],
  ["rules.", ["rules"]],
  ["showing", ["showings"]],
  ["unsent.", ["unsent", "locks"]],
  ["pins.", ["pins"]],
  ["workspace.", ["workspaces"]],
  ["member.", ["", "members"]],
  ["project.", [""]],
  ["hook.", ["hooks"]],
];

/** touched are the names of what an event may have changed; all of them where it is of a kind that is not known here. */
export function touched(e: Happened): Set<Kept> {
  const found = touches.find(([begin]) => e.kind.startsWith(begin));
  const names = new Set<Kept>(found ? found[1] : kept);
  if (e.kind.startsWith("handoff.") && (paths(e).includes("tarn.toml") || unnamed(e))) names.add("rules");
  return names;
}

const paths = (e: Happened) => e.subject?.paths ?? [];
/** An event names a hundred paths at most. */
const unnamed = (e: Happened) => (e.subject?.count ?? paths(e).length) > paths(e).length;

/** lies reports whether a listing of a folder may show one of some paths. */
export const lies = (list: string[], folder: string) =>
  folder === "" || list.some((p) => p.toLowerCase().startsWith(`${folder.toLowerCase()}/`));

type Page = Schemas["FolderPage"];

/** withAssets is a page of assets in which some are as they are now; the same page where none of them is on it. */
export function withAssets(page: Page, now: Asset[]): Page {
  const at = new Map(now.map((a) => [a.path, a]));
  return page.assets.some((a) => at.has(a.path)) ? { ...page, assets: page.assets.map((a) => at.get(a.path) ?? a) } : page;
}

/** sums reports whether a page has folders in which one of some paths lies: their sizes are on it. */
export const sums = (page: Page | undefined, list: string[], folder: string) =>
  !!page?.folders.some((f) => lies(list, folder === "" ? f.name : `${folder}/${f.name}`));

/** withLock is a page of assets in which one has another lock; the same page where that asset is not on it. */
export function withLock(page: Page, path: string, lock: Lock | undefined): Page {
  if (!page.assets.some((a) => a.path === path)) return page;
  return { ...page, assets: page.assets.map((a) => (a.path === path ? locked(a, lock) : a)) };
}

function locked(asset: Asset, lock: Lock | undefined): Asset {
  const { lock: _lock, holder: _holder, ...free } = asset;
  return lock?.holder ? { ...free, lock, holder: lock.holder } : free;
}

/** lockOf asks for the lock of one asset. */
export const lockOf = (key: string, path: string) => ({
  queryKey: ["project", key, "lock", path],
  queryFn: async () =>
    (await ask(api.GET("/projects/{project}/locks", { params: { path: { project: key }, query: { path } } }))).locks[0] ?? null,
});

/**
 * Changes brings what is kept of a project up to date with what happened: the one place that decides what an event touches. What comes close
 * together is looked at together.
 */
export class Changes {
  private waiting: Happened[] = [];
  private timer: ReturnType<typeof setTimeout> | undefined;

  constructor(
    private readonly queries: QueryClient,
    private readonly key: string,
  ) {}

  add(e: Happened) {
    this.waiting.push(e);
    this.timer ??= setTimeout(() => void this.flush(), 30);
  }

  /** all asks for everything again: after a gap nobody knows what was missed. */
  all() {
    return this.queries.invalidateQueries({
      predicate: (q) =>
        q.queryKey[0] === "project" && q.queryKey[1] === this.key && (kept as readonly unknown[]).includes(q.queryKey[2] ?? ""),
    });
  }

  close() {
    clearTimeout(this.timer);
    this.timer = undefined;
    this.waiting = [];
  }

  async flush() {
    const events = this.waiting;
    this.close();
    const names = new Set<Kept>();
    const locks = new Set<string>();
    const changed = new Set<string>();
    let anywhere = false;
    let edits = true;
    for (const e of events) {
      for (const n of touched(e)) names.add(n);
      const sent = e.kind.startsWith("handoff.");
      const about = sent ? changed : /^(lock|unsent)\./.test(e.kind) ? locks : undefined;
      for (const p of paths(e)) about?.add(p);
      if (sent) {
        anywhere ||= unnamed(e);
        edits &&= e.subject?.edits === true;
      } else if (about && unnamed(e)) {
        names.add(e.kind.startsWith("lock.") ? "folder" : "asset").add("lock");
      }
    }
    if (locks.size > few) names.add("folder").add("lock");
    const list = [...changed];
    const patched = edits && !anywhere && list.length <= few;
    const wants = ({ queryKey, state }: Query) => {
      const [kind, project, name = "", what, how] = queryKey;
      if (kind !== "project" || project !== this.key) return false;
      if (names.has(name as Kept)) return true;
      // What a lock or an unsent change is about is on the page of its asset, too, and what a filter goes by may be it.
      if (name === "asset") return anywhere || changed.has(String(what)) || locks.has(String(what));
      if (name === "lock") return changed.has(String(what));
      if (name === "folder") {
        const folder = String(what);
        const filtered = how !== undefined && how !== "";
        if (patched && !filtered) return sums(state.data as Page | undefined, list, folder);
        return (
          ((list.length > 0 || anywhere) && (anywhere || lies(list, folder))) || (filtered && locks.size > 0 && /lock=/.test(String(how)))
        );
      }
      return false;
    };
    const refreshed = this.queries.invalidateQueries({ predicate: wants });
    if (!names.has("folder")) {
      if (patched && list.length > 0) await this.patchAssets(list);
      await Promise.all([...locks].map((p) => this.patch(p)));
    }
    await refreshed;
  }

  /** patchAssets changes some assets, which are where they were, wherever a folder shows them. */
  private async patchAssets(list: string[]) {
    const queryKey = ["project", this.key, "folder"];
    const shown = this.queries.getQueryCache().findAll({ queryKey });
    if (!shown.some((q) => (q.state.data as Page | undefined)?.assets.some((a) => list.includes(a.path)))) return;
    try {
      const params = { path: { project: this.key } };
      const { assets } = await ask(api.POST("/projects/{project}/assets/at", { params, body: { paths: list } }));
      const unfiltered = (q: Query) => !q.queryKey[4];
      this.queries.setQueriesData<Page>({ queryKey, predicate: unfiltered }, (page) => page && withAssets(page, assets));
    } catch {
      await this.queries.invalidateQueries({ queryKey });
    }
  }

  /** patch changes the lock of one asset wherever it is shown. */
  private async patch(path: string) {
    const shown = this.queries
      .getQueryCache()
      .findAll({ queryKey: ["project", this.key] })
      .some((q) => {
        const name = q.queryKey[2];
        return name === "lock"
          ? q.queryKey[3] === path
          : name === "folder" && (q.state.data as Page | undefined)?.assets.some((a) => a.path === path);
      });
    if (!shown) return;
    try {
      const lock = await this.queries.fetchQuery({ ...lockOf(this.key, path), staleTime: 0 });
      this.queries.setQueriesData<Page>(
        { queryKey: ["project", this.key, "folder"] },
        (page) => page && withLock(page, path, lock ?? undefined),
      );
    } catch {
      // The page goes on with what it has; the stream says when the service is there again.
    }
  }
}

const known = new WeakMap<QueryClient, Map<string, Changes>>();

/** changesOf is what keeps a project's data true, for its stream of news and for what one does oneself. */
export function changesOf(queries: QueryClient, key: string): Changes {
  let projects = known.get(queries);
  if (!projects) known.set(queries, (projects = new Map()));
  let changes = projects.get(key);
  if (!changes) projects.set(key, (changes = new Changes(queries, key)));
  return changes;
}
