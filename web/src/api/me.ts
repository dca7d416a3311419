import { useQuery } from "@tanstack/react-query";
import { api, ask } from "./client";

/** useMe tells who is signed in. */
export function useMe() {
  return useQuery({ queryKey: ["me"], queryFn: () => ask(api.GET("/whoami")), staleTime: Infinity });
}
