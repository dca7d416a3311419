import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, type Asset, type Lock } from "./client";

/** console stands for the page itself among a person's workspaces. */
export const consoleSeat = "console";

/** useLocks lists what is held in a project. */
export function useLocks(key: string) {
  return useQuery({ queryKey: ["project", key, "locks"], queryFn: () => ask(api.GET("/projects/{project}/locks", { params: { path: { project: key } } })) });
}

/** useWorkspaces lists one's own folders of a project: where a lock may be for, beside the page. */
export function useWorkspaces(key: string) {
  return useQuery({
    queryKey: ["project", key, "workspaces"],
    queryFn: () => ask(api.GET("/projects/{project}/workspaces", { params: { path: { project: key } } })),
    select: (answer) => answer.workspaces.filter((w) => w.kind === "folder"),
  });
}

/** useLockActions takes and gives back. A lock for a folder says that the folder is brought up to date next: its index decides then. */
export function useLockActions(key: string) {
  const queries = useQueryClient();
  const onSuccess = () => queries.invalidateQueries({ queryKey: ["project", key] });
  const params = { path: { project: key } };
  const take = useMutation({
    mutationFn: ({ asset, workspace }: { asset: Asset; workspace: string }) =>
      ask(api.POST("/projects/{project}/locks", { params, body: { workspace, assets: [{ path: asset.path, version: asset.newest }], will_update: workspace !== consoleSeat } })),
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
  return { take, release, override };
}
