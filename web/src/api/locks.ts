import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { outcomes } from "../acts/outcomes";
import { changesOf, lockOf } from "./changes";
import { api, ask, type Asset, type Lock } from "./client";

/** console stands for the page itself among a person's workspaces. */
export const consoleSeat = "console";
/** What a lock for the page says that it is in. */
export const consoleName = "the console";

/** useLock is the lock of one asset, with who waits for it; null where nobody has it or waits for it. */
export const useLock = (key: string, path: string) => useQuery(lockOf(key, path));

/** useWorkspaces lists one's own folders of a project: where a lock may be for, beside the page. */
export function useWorkspaces(key: string) {
  return useQuery({
    queryKey: ["project", key, "workspaces"],
    queryFn: () => ask(api.GET("/projects/{project}/workspaces", { params: { path: { project: key } } })),
    select: (answer) => answer.workspaces.filter((w) => w.kind === "folder"),
  });
}

export interface Answer {
  path: string;
  give: boolean;
  to?: string;
  word?: string;
  until?: string;
}

interface Taking {
  asset: Pick<Asset, "path" | "newest">;
  workspace: string;
  wait?: boolean;
  bring?: boolean;
  diverge?: boolean;
}

/**
 * useLockActions takes, waits, asks, answers and gives back. A lock for a folder says that the folder is brought up to date next: its
 * index decides then. Newest is 0 where the page does not know it. What came of each is an outcome, above the page; request, answer with more
 * to say and override are done in a dialog, which says it itself.
 */
export function useLockActions(key: string) {
  const queries = useQueryClient();
  const params = { path: { project: key } };
  /** After it was done: what it was about is looked at again, whether or not the stream of news stands. */
  const done = (path: string, words: string) => {
    outcomes.done(path, words);
    changesOf(queries, key).add({ kind: "lock.own", subject: { paths: [path] } });
  };
  const failed = (path: string, error: unknown, workspace?: string) => {
    outcomes.failed({ what: path, error, workspace });
    changesOf(queries, key).add({ kind: "lock.own", subject: { paths: [path] } });
  };
  const take = useMutation({
    mutationFn: ({ asset, workspace, wait = false, bring = false, diverge = false }: Taking) =>
      ask(
        api.POST("/projects/{project}/locks", {
          params,
          body: {
            workspace,
            assets: [{ path: asset.path, version: asset.newest }],
            will_update: workspace !== consoleSeat || !asset.newest,
            wait,
            bring,
            diverge,
          },
        }),
      ),
    onSuccess: (answer, { asset }) =>
      done(asset.path, answer.waiting?.length ? `You are in line for ${asset.path}` : `${asset.path} is locked: it is yours`),
    onError: (error, { asset, workspace }) => failed(asset.path, error, workspace),
  });
  const leave = useMutation({
    mutationFn: (path: string) => ask(api.POST("/projects/{project}/locks/leave", { params, body: { paths: [path] } })),
    onSuccess: (_, path) => done(path, `You do not wait for ${path} any more`),
    onError: (error, path) => failed(path, error),
  });
  const request = useMutation({
    mutationFn: ({ path, workspace, reason }: { path: string; workspace: string; reason: string }) =>
      ask(api.POST("/projects/{project}/locks/ask", { params, body: { workspace, path, reason } })),
    onSuccess: (_, { path }) => done(path, `They are asked to let go of ${path}`),
  });
  const answer = useMutation({
    mutationFn: (body: Answer) => ask(api.POST("/projects/{project}/locks/answer", { params, body })),
    onSuccess: (_, { path, give }) => done(path, give ? `${path} is given` : "They are told: not yet"),
    onError: (error, { path }) => failed(path, error),
  });
  const release = useMutation({
    mutationFn: (lock: Lock) =>
      ask(api.POST("/projects/{project}/locks/release", { params, body: { workspace: lock.workspace_id, paths: [lock.path] } })),
    onSuccess: (_, { path }) => done(path, `${path} is unlocked`),
    onError: (error, { path }) => failed(path, error),
  });
  const override = useMutation({
    mutationFn: ({ lock, reason }: { lock: Lock; reason: string }) =>
      ask(
        api.POST("/projects/{project}/locks/release", {
          params,
          body: { workspace: consoleSeat, paths: [lock.path], override: true, reason },
        }),
      ),
    onSuccess: (_, { lock }) => done(lock.path, `The lock of ${lock.path} is taken away`),
  });
  return { take, leave, request, answer, release, override };
}
