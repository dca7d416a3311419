import { useQuery } from "@tanstack/react-query";
import { api, ask, type Schemas } from "./client";

export type Person = Schemas["Person"];

/** useMe tells who is signed in. */
export function useMe() {
  return useQuery({ queryKey: ["me"], queryFn: () => ask(api.GET("/whoami")), staleTime: Infinity });
}
