import { useQuery } from "@tanstack/react-query";
import { api, ask, inProject, type Schemas } from "../../api/client";

export type Comparison = Schemas["Comparison"];
export type Report = Schemas["Report"];

/** Which two versions are compared: of one asset, or of two. */
export interface Sides {
  path: string;
  a: number;
  with: string;
  b: number;
}

export function useCompare(key: string, sides: Sides) {
  return useQuery({
    queryKey: ["project", key, "compare", sides],
    queryFn: () =>
      ask(
        api.GET("/projects/{project}/compare", {
          params: { path: { project: key }, query: { path: sides.path, a: sides.a, with: sides.with, b: sides.b } },
        }),
      ),
    staleTime: Infinity, // two versions stay as they are
  });
}

/** What was drawn of each side, and of both. */
export const drawnOf = (key: string, path: string, version: number, name: string) => inProject(key, "look/file", { path, version, name });
export const drawnOfBoth = (key: string, s: Sides, name: string) =>
  inProject(key, "compare/file", { path: s.path, a: s.a, with: s.with, b: s.b, name });
