import { api, ask, newKey, Problem, prefix, type Asset, type Schemas } from "../api/client";
import { consoleSeat } from "../api/locks";
import { baseName } from "../parts/words";
import { noContent, sending } from "../sending/prepare";

type Refusal = Schemas["Refusal"];

/** What came of something done with many assets: how many it was done with, and why not with the others. */
export interface Came {
  done: number;
  refusals: Refusal[];
}

const params = (key: string) => ({ path: { project: key } });

/** lockMany takes the locks of those that can be locked, or waits in line for them. */
export async function lockMany(key: string, assets: Asset[], workspace: string, wait: boolean): Promise<Came> {
  const folder = workspace !== consoleSeat;
  const answer = await ask(
    api.POST("/projects/{project}/locks", {
      params: params(key),
      body: {
        workspace,
        assets: assets.map((a) => ({ path: a.path, version: a.newest })),
        will_update: folder,
        any: true,
        wait,
      },
    }),
  );
  const refusals = answer.refusals ?? [];
  return { done: assets.length - refusals.length, refusals };
}

/** unlockMany gives back what one holds, from wherever one holds it. */
export function unlockMany(key: string, assets: Asset[]): Promise<Came> {
  const seats = new Map<string, Asset[]>();
  for (const a of assets) {
    const seat = a.lock?.workspace_id ?? consoleSeat;
    seats.set(seat, [...(seats.get(seat) ?? []), a]);
  }
  return inTurn([...seats], ([workspace, list]) =>
    ask(api.POST("/projects/{project}/locks/release", { params: params(key), body: { workspace, paths: list.map((a) => a.path) } })).then(
      (answer) => answer.freed.length,
    ),
  );
}

/** takeAwayMany takes the locks of others away. */
export function takeAwayMany(key: string, assets: Asset[], reason: string): Promise<Came> {
  const body = { workspace: consoleSeat, paths: assets.map((a) => a.path), override: true, reason };
  return inTurn([body], (b) =>
    ask(api.POST("/projects/{project}/locks/release", { params: params(key), body: b })).then((answer) => answer.freed.length),
  );
}

/** askMany asks the holder of each to let go, for where one waits already, or else for the page. */
export const askMany = (key: string, me: string, assets: Asset[], reason: string): Promise<Came> =>
  inTurn(assets, (a) =>
    ask(
      api.POST("/projects/{project}/locks/ask", {
        params: params(key),
        body: { workspace: a.lock?.waitlist.find((w) => w.handle === me)?.workspace_id ?? consoleSeat, path: a.path, reason },
      }),
    ).then(() => 1),
  );

/** inTurn does one after the other. What is refused is gathered; anything else that fails ends it. */
async function inTurn<T>(list: T[], one: (item: T) => Promise<number>): Promise<Came> {
  const came: Came = { done: 0, refusals: [] };
  for (const item of list) {
    try {
      came.done += await one(item);
    } catch (error) {
      if (!(error instanceof Problem) || !error.details.refusals?.length) throw error;
      came.refusals.push(...error.details.refusals);
    }
  }
  return came;
}

type Change = Schemas["SendChange"];

const outline = (a: Asset): Change => ({
  path: a.path,
  base: a.newest,
  content: a.content ?? noContent,
  size: a.size,
  ...(a.executable && { executable: true }),
  ...(a.lock && { fence: a.lock.fence }),
});

/** removing takes assets out of the present; their versions stay. */
export const removing = (assets: Asset[]): Change[] =>
  assets.map((a) => ({ path: a.path, base: a.newest, gone: true, content: noContent, size: 0, ...(a.lock && { fence: a.lock.fence }) }));

/** moving brings assets into a folder under their own names. */
export const moving = (assets: Asset[], folder: string): Change[] =>
  assets.map((a) => ({ ...outline(a), path: folder ? `${folder}/${baseName(a.path)}` : baseName(a.path), moved_from: a.path }));

/** renaming gives one asset another path. */
export const renaming = (asset: Asset, path: string): Change[] => [{ ...outline(asset), path, moved_from: asset.path }];

/** checkChanges tells what would stand in the way of a handoff: an empty list where nothing does. */
export async function checkChanges(key: string, changes: Change[]): Promise<Refusal[]> {
  try {
    await ask(
      api.POST("/projects/{project}/sends/check", { params: params(key), body: { send: sending(changes, { note: "", tasks: [] }) } }),
    );
    return [];
  } catch (error) {
    if (error instanceof Problem && error.details.refusals?.length) return error.details.refusals;
    throw error;
  }
}

/** handOff hands changes off as one. */
export const handOff = (key: string, changes: Change[], note: string) =>
  ask(
    api.POST("/projects/{project}/handoffs", {
      params: { ...params(key), header: { "Idempotency-Key": newKey() } },
      body: sending(changes, { note, tasks: [] }),
    }),
  );

/** downloadMany lets the browser download assets in one ZIP file, as it is written. */
export function downloadMany(key: string, paths: string[]) {
  const form = document.createElement("form");
  form.method = "post";
  form.action = `${prefix}/projects/${encodeURIComponent(key)}/archive`;
  form.hidden = true;
  for (const path of paths) {
    const field = document.createElement("input");
    field.name = "path";
    field.value = path;
    form.append(field);
  }
  document.body.append(form);
  form.submit();
  form.remove();
}
