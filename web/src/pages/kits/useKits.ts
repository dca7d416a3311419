import { useQuery } from "@tanstack/react-query";
import { api, ask, newKey, type Schemas } from "../../api/client";
import { consoleSeat } from "../../api/locks";

export type Kit = Schemas["Kit"];
export type KitUse = Schemas["KitUse"];
export type KitAnswer = Schemas["KitAnswer"];

/** useKits are the kits that a project makes, and those that it uses. Every page of an asset asks; the news say when it is another answer. */
export const useKits = (key: string, enabled = true) =>
  useQuery({
    enabled,
    staleTime: 300_000,
    queryKey: ["project", key, "kits"],
    queryFn: () => ask(api.GET("/projects/{project}/kits", { params: { path: { project: key } } })),
  });

/** useKitState is a release of a kit, beside another one, or the one before it with 0. */
export const useKitState = (project: string, kit: string, number: number, beside = 0) =>
  useQuery({
    enabled: number > 0,
    queryKey: ["project", project, "kit", kit, number, beside],
    queryFn: () =>
      ask(
        api.GET("/projects/{project}/kits/{kit}/{number}", {
          params: { path: { project, kit, number: String(number) }, query: beside ? { since: beside } : {} },
        }),
      ),
  });

/** changeKit uses a kit, or brings a use to another release, or detaches it; as a preview it says what that would do. */
export const changeKit = (key: string, q: Omit<Schemas["KitRequest"], "workspace">, once = newKey()) =>
  ask(
    api.POST("/projects/{project}/uses", {
      params: { path: { project: key }, header: { "Idempotency-Key": once } },
      body: { workspace: consoleSeat, ...q },
    }),
  );

/** kitPath is the page of a kit: of a release, and what is different in it beside another one. */
export function kitPath(project: string, kit: string, release = 0, beside = 0) {
  const query = new URLSearchParams({ ...(release && { release: String(release) }), ...(beside && { beside: String(beside) }) }).toString();
  return `/p/${project}/kits/${kit}${query && `?${query}`}`;
}

/** madeBy takes the name of a kit apart: brinelight/lamp-parts. */
export function madeBy(name: string): { project: string; kit: string } {
  const at = name.indexOf("/");
  return { project: name.slice(0, at), kit: name.slice(at + 1) };
}

export const isBehind = (u: KitUse) => (u.newest ?? 0) > u.release;

/** standing says how a use stands beside its kit. */
export function standing(u: KitUse): string {
  if (!u.newest) return "its project is not yours to look at";
  if (!isBehind(u)) return u.stay ? "keeps to it, the latest" : "the latest";
  return u.stay ? `keeps to it; the latest is @${u.newest}` : `behind: the latest is @${u.newest}`;
}
