import { JSONRPCClient, JSONRPCErrorException, JSONRPCServer, JSONRPCServerAndClient } from "json-rpc-2.0";
import { useSyncExternalStore } from "react";
import { Problem, type Schemas } from "./client";
import type { About, Asset, Changed, Methods, Noticed, Progress, Standing } from "./desk.gen";

/** Whether this is the console of one's own machine. */
export const atDesk = typeof document !== "undefined" && document.querySelector('meta[name="desk"]') !== null;

/** Desk is what a page knows of it. */
export interface Desk {
  /** asking: nothing is known yet; here: all that is shown is so; away: it does not answer, and what is shown is what it last said. */
  line: "asking" | "here" | "away";
  about: About | undefined;
  /** By folder. */
  workspaces: readonly Workspace[];
  progress: Readonly<Record<string, Progress>>;
}

export type Workspace = Standing;

let desk: Desk = { line: "asking", about: undefined, workspaces: [], progress: {} };
const listeners = new Set<() => void>();

function set(next: Partial<Desk>) {
  desk = { ...desk, ...next };
  for (const l of listeners) l();
}

const subscribe = (l: () => void) => {
  listeners.add(l);
  if (atDesk) connect();
  return () => listeners.delete(l);
};

export const useDesk = () => useSyncExternalStore(subscribe, () => desk);

/** changedIn brings what is known of a workspace up to date with what is other in it; assets stay in the order of their paths. */
export function changedIn(was: Workspace, { away, assets, ...rest }: Changed): Workspace {
  const list = new Map(was.assets.map((a) => [a.path, a]));
  for (const path of away) list.delete(path);
  for (const a of assets) list.set(a.path, a);
  const sorted = [...list.values()];
  if (assets.length > 0) sorted.sort((a, b) => (a.path < b.path ? -1 : a.path > b.path ? 1 : 0));
  return { ...rest, assets: sorted };
}

let line: JSONRPCServerAndClient | undefined;
let trying = false;

function connect() {
  if (line || trying) return;
  trying = true;
  const socket = new WebSocket(`${location.origin.replace(/^http/, "ws")}/desk/line`);
  const both = new JSONRPCServerAndClient(
    new JSONRPCServer(),
    new JSONRPCClient((request) => {
      socket.send(JSON.stringify(request));
    }),
  );
  both.addMethod("changed", (c: Changed) => {
    set({ workspaces: desk.workspaces.map((w) => (w.workspace === c.workspace ? changedIn(w, c) : w)) });
  });
  both.addMethod("noticed", (n: Noticed) => {
    for (const l of hearers) l(n);
  });
  both.addMethod("progress", (p: Progress) => set({ progress: { ...desk.progress, [p.work]: p } }));
  let looking: ReturnType<typeof setInterval> | undefined;
  socket.onopen = () => {
    trying = false;
    line = both;
    void look();
    looking = setInterval(() => void look(), 5000);
  };
  socket.onmessage = (e) => void both.receiveAndSend(JSON.parse(String(e.data)));
  socket.onclose = () => {
    clearInterval(looking);
    both.rejectAllPendingRequests("the desk is away");
    line = undefined;
    trying = false;
    set({ line: "away" });
    if (listeners.size > 0) setTimeout(connect, 1500);
  };
}

/** look asks which workspaces there are, and follows them. */
export async function look() {
  try {
    const [about, { workspaces }] = await Promise.all([call("about", {}), call("workspaces", {})]);
    const known = new Map(desk.workspaces.map((w) => [w.workspace, w]));
    const fresh = workspaces.filter((w) => desk.line !== "here" || !known.has(w.workspace));
    const followed = await Promise.all(fresh.map((w) => call("follow", { workspace: w.workspace })));
    for (const w of followed) known.set(w.workspace, w);
    const list = workspaces.map((w) => known.get(w.workspace) ?? w);
    const same = list.length === desk.workspaces.length && list.every((w, i) => w === desk.workspaces[i]);
    if (!same || desk.line !== "here" || JSON.stringify(about) !== JSON.stringify(desk.about))
      set({ line: "here", about, workspaces: list });
  } catch {
    // It is away, or a workspace has gone since: the next look says so.
  }
}

/** call asks the desk for something; what it refuses is thrown as a Problem, like what the service refuses. */
export async function call<M extends keyof Methods>(method: M, params: Methods[M]["takes"]): Promise<Methods[M]["answers"]> {
  if (!line) throw new Problem(away);
  try {
    return (await line.request(method, params)) as Methods[M]["answers"];
  } catch (e) {
    if (!(e instanceof JSONRPCErrorException)) throw new Problem(away);
    const refusals = (e.data as { refusals?: Schemas["Refusal"][] } | undefined)?.refusals ?? [];
    throw new Problem({
      type: `urn:kettletarn:${refusals[0]?.reason ?? "failed"}`,
      title: "Not done",
      status: 422,
      detail: refusals[0]?.message ?? e.message,
      remedy: refusals[0]?.remedy ?? "",
      refusals,
    });
  }
}

const away: Schemas["ProblemDetails"] = {
  type: "urn:kettletarn:desk-away",
  title: "Away",
  status: 0,
  detail: "Your desk does not answer.",
  remedy: "Choose Kettle Tarn in the start menu to start it again. Your files are as they are.",
};

/** give puts a file into a workspace; how far it is comes in bytes. With over it takes the place of one that is there. */
export function give(
  workspace: string,
  path: string,
  file: File,
  over: boolean,
  onBytes: (n: number) => void,
): Promise<Schemas["RuleTest"]> {
  return new Promise((resolve, reject) => {
    const r = new XMLHttpRequest(); // fetch tells nothing of what is on its way
    r.open("PUT", `/desk/file?${new URLSearchParams({ workspace, path, ...(over && { over: "1" }) })}`);
    r.upload.onprogress = (e) => onBytes(e.loaded);
    r.onerror = () => reject(new Problem(away));
    r.onload = () => {
      const answer: unknown = JSON.parse(r.responseText);
      if (r.status === 200) resolve(answer as Schemas["RuleTest"]);
      else reject(new Problem(answer as Schemas["ProblemDetails"]));
    };
    r.send(file);
  });
}

const hearers = new Set<(n: Noticed) => void>();

/** hearNotices hears what is noticed in the workspaces, until what is given back is called. */
export function hearNotices(hear: (n: Noticed) => void) {
  hearers.add(hear);
  return () => {
    hearers.delete(hear);
  };
}

export const finished = (work: string) => {
  const { [work]: _, ...rest } = desk.progress;
  set({ progress: rest });
};

/** The picture of a file as it is here; its time makes it another one when it was changed. */
export const hereAddress = (w: Workspace, a: Pick<Asset, "path" | "changed" | "size">, edge: 96 | 320 | 1280) =>
  `/desk/picture?${new URLSearchParams({ workspace: w.workspace, path: a.path, edge: String(edge), as: a.changed ?? String(a.size) })}`;

/** What was drawn of a file here and of the version that it was made from. */
export const unsentFile = (workspace: string, path: string, name: string, side: "before" | "after" | "") =>
  `/desk/compare/file?${new URLSearchParams({ workspace, path, name, ...(side && { side }) })}`;
