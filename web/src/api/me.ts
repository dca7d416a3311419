import { useQuery } from "@tanstack/react-query";
import { api, ask, type Schemas } from "./client";

export type Person = Schemas["Person"];

/** useMe tells who is signed in. */
export function useMe() {
  return useQuery({ queryKey: ["me"], queryFn: () => ask(api.GET("/whoami")), staleTime: Infinity });
}

/** useWhoIsHere is the same on a page for whoever is not in yet: nobody, as null, is no trouble there. */
export function useWhoIsHere() {
  return useQuery({
    queryKey: ["me", "or nobody"],
    queryFn: () => fetch("/api/v1/whoami").then((r) => (r.ok ? (r.json() as Promise<Person>) : null)),
  });
}
