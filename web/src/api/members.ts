import { useQuery } from "@tanstack/react-query";
import { api, ask } from "./client";

/** useMembers lists the people of a project. */
export const useMembers = (key: string) =>
  useQuery({
    queryKey: ["project", key, "members"],
    staleTime: 300_000,
    queryFn: () => ask(api.GET("/projects/{project}/members", { params: { path: { project: key } } })),
  });
