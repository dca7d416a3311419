import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { changesOf } from "../../api/changes";
import { api, ask, newKey, type Schemas } from "../../api/client";
import { consoleSeat } from "../../api/locks";

export type Branch = Schemas["Branch"];
export type Way = Schemas["Decision"]["way"];

const path = (key: string, branch: string) => ({ project: key, branch });

export const useBranches = (key: string, enabled = true) =>
  useQuery({
    enabled,
    queryKey: ["project", key, "branches"],
    queryFn: () => ask(api.GET("/projects/{project}/branches", { params: { path: { project: key } } })),
  });

export const useBranch = (key: string, name: string) =>
  useQuery({
    queryKey: ["project", key, "branch", name],
    queryFn: () => ask(api.GET("/projects/{project}/branches/{branch}", { params: { path: path(key, name) } })),
  });

/** useAct does something in a project, and has its pages look again. */
export function useAct<V, T>(key: string, act: (v: V) => Promise<T>, then?: (t: T) => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSuccess: (done) => {
      then?.(done);
      return changesOf(queries, key).all();
    },
  });
}

export const setState = (key: string, branch: string, state: string) =>
  ask(api.POST("/projects/{project}/branches/{branch}", { params: { path: path(key, branch) }, body: { state } }));

/** merge brings a branch into another one, or, as a preview, says what that would do. */
export const merge = (key: string, q: Omit<Schemas["MergeRequest"], "workspace">) =>
  ask(
    api.POST("/projects/{project}/merges", {
      params: { path: { project: key }, header: { "Idempotency-Key": newKey() } },
      body: { workspace: consoleSeat, ...q },
    }),
  );

export const branchPath = (key: string, name: string) => `/p/${key}/branches/${name.split("/").map(encodeURIComponent).join("/")}`;
