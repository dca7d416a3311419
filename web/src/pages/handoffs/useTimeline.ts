import { api, ask, type Handoff, type Schemas } from "../../api/client";
import { useRows } from "../../api/rows";
import type { assetKinds } from "../../api/words.gen";

/** The filters of the timeline, by the names that they have in its address and in the API. */
export const filters = ["author", "path", "kind", "since", "until", "task", "stage", "text"] as const;
export type Filters = Partial<Record<Exclude<(typeof filters)[number], "kind">, string>> & { kind?: (typeof assetKinds)[number] };

/** useTimeline lists the handoffs that fit, each with the first of its assets. */
export const useTimeline = (key: string, wanted: Filters) =>
  useRows<Handoff, Schemas["Handoffs"]>({
    queryKey: ["project", key, "handoffs", wanted],
    fetch: (skip, limit) =>
      ask(api.GET("/projects/{project}/handoffs", { params: { path: { project: key }, query: { ...wanted, skip, limit, assets: 6 } } })),
    rows: (a) => a.handoffs,
    total: (a) => a.total,
  });
