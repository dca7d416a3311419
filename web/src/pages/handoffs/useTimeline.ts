import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { api, ask } from "../../api/client";
import { assetKinds } from "../../api/words.gen";

/** The filters of the timeline, by the names that they have in its address and in the API. */
export const filters = ["author", "path", "kind", "since", "until", "task", "stage", "text"] as const;
export type Filters = Partial<Record<Exclude<(typeof filters)[number], "kind">, string>> & { kind?: (typeof assetKinds)[number] };

const page = 60;

/** useTimeline lists the handoffs that fit, page after page, each with the first of its assets. */
export function useTimeline(key: string, wanted: Filters) {
  return useInfiniteQuery({
    queryKey: ["project", key, "handoffs", wanted],
    initialPageParam: 0,
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/projects/{project}/handoffs", {
          params: { path: { project: key }, query: { ...wanted, limit: page, assets: 6, ...(pageParam > 0 && { before: pageParam }) } },
        }),
      ),
    getNextPageParam: (p) => (p.handoffs.length === page ? p.handoffs.at(-1)?.number : undefined),
  });
}
