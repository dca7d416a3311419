import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, type Asset, type Lock } from "./client";

/** console stands for the page itself among a person's workspaces. */
export const consoleSeat = "console";

/** useLocks lists what is held or waited for in a project; with a path, that of one asset. */
export function useLocks(key: string, path?: string) {
  return useQuery({
    queryKey: ["project", key, "locks", path ?? ""],
    queryFn: () => ask(api.GET("/projects/{project}/locks", { params: { path: { project: key }, query: path ? { path } : {} } })),
  });
}

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

/**
 * useLockActions takes, waits, asks, answers and gives back. A lock for a folder says that the folder is brought up to date next: its
 * index decides then. Newest is 0 where the page does not know it.
 */
export function useLockActions(key: string) {
  const queries = useQueryClient();
  const onSuccess = () => queries.invalidateQueries({ queryKey: ["project", key] });
  const params = { path: { project: key } };
  const take = useMutation({
    mutationFn: ({ asset, workspace, wait = false }: { asset: Pick<Asset, "path" | "newest">; workspace: string; wait?: boolean }) =>
      ask(api.POST("/projects/{project}/locks", { params, body: { workspace, assets: [{ path: asset.path, version: asset.newest }], will_update: workspace !== consoleSeat || !asset.newest, wait } })),
    onSuccess,
  });
  const leave = useMutation({
    mutationFn: (path: string) => ask(api.POST("/projects/{project}/locks/leave", { params, body: { paths: [path] } })),
    onSuccess,
  });
  const request = useMutation({
    mutationFn: ({ path, workspace, reason }: { path: string; workspace: string; reason: string }) =>
      ask(api.POST("/projects/{project}/locks/ask", { params, body: { workspace, path, reason } })),
    onSuccess,
  });
  const answer = useMutation({
    mutationFn: (body: Answer) => ask(api.POST("/projects/{project}/locks/answer", { params, body })),
    onSuccess,
  });
  const release = useMutation({
    mutationFn: (lock: Lock) => ask(api.POST("/projects/{project}/locks/release", { params, body: { workspace: lock.workspace_id, paths: [lock.path] } })),
    onSuccess,
  });
  const override = useMutation({
    mutationFn: ({ lock, reason }: { lock: Lock; reason: string }) =>
      ask(api.POST("/projects/{project}/locks/release", { params, body: { workspace: consoleSeat, paths: [lock.path], override: true, reason } })),
    onSuccess,
  });
  return { take, leave, request, answer, release, override };
}
