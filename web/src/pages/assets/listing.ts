import { api, ask, type Asset, type Schemas } from "../../api/client";
import { useRows } from "../../api/rows";
import { assetKinds, orders, reviewStates } from "../../api/words.gen";

/** The parts of the address that say what of the assets is shown, beside the folder. */
export const filters = ["search", "kind", "author", "lock", "since", "least", "most", "review"] as const;
const others = ["order", "down", "at"] as const;

export type Listing = Partial<Record<(typeof filters)[number] | (typeof others)[number], string>>;

/** listingOf reads an address, which may say anything: what is none of ours is left out. */
export function listingOf(params: URLSearchParams): Listing {
  const found: Listing = {};
  for (const k of [...filters, ...others]) {
    const v = params.get(k);
    if (v) found[k] = v;
  }
  if (params.get("remarked")) found.review ??= "remarked"; // as it was kept before there was more to ask
  if (found.review && !(reviewStates as readonly string[]).includes(found.review)) delete found.review;
  if (found.kind && !(assetKinds as readonly string[]).includes(found.kind)) delete found.kind;
  if (found.order && !(orders as readonly string[]).includes(found.order)) delete found.order;
  for (const k of ["least", "most"] as const) if (found[k] && !/^\d{1,15}$/.test(found[k])) delete found[k];
  return found;
}

/** filtered says whether not simply what lies in a folder is shown. */
export const filtered = (l: Listing) => filters.some((k) => l[k]);

type Page = Schemas["FolderPage"];
type Query = NonNullable<import("../../api/schema.gen").paths["/projects/{project}/folder"]["get"]["parameters"]["query"]>;

/** useListing lists what lies right in a folder, or, with a filter, anywhere below it. */
export function useListing(key: string, folder: string, l: Listing) {
  const { down, least, most, ...rest } = l;
  const query = {
    path: folder,
    ...rest,
    ...(down && { down: true }),
    ...(least && { least: Number(least) }),
    ...(most && { most: Number(most) }),
  } as Query;
  const how = new URLSearchParams(Object.entries(l).sort()).toString();
  return useRows<Asset, Page>({
    queryKey: ["project", key, "folder", folder, how],
    fetch: (skip, limit) =>
      ask(api.GET("/projects/{project}/folder", { params: { path: { project: key }, query: { ...query, skip, limit } } })),
    rows: (p) => p.assets,
    total: (p) => p.total,
    more: (p) => p.more === true,
  });
}
