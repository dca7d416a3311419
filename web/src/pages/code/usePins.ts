import { useQuery } from "@tanstack/react-query";
import { api, ask } from "../../api/client";

/** usePins are the commits of the main history that pin handoffs, the latest first. */
export const usePins = (key: string) =>
  useQuery({
    queryKey: ["project", key, "pins"],
    queryFn: () => ask(api.GET("/projects/{project}/pins", { params: { path: { project: key } } })),
  });
