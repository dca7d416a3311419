import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask } from "../../api/client";
import { Button } from "../../parts/Button";
import { Labels } from "../../parts/Labels";
import { Trouble } from "../../parts/Trouble";
import { firstLine, plural, size, When } from "../../parts/words";
import { usePins } from "../code/usePins";
import { useHere } from "../project/ProjectFrame";

const page = 100;

export function HandoffsPage() {
  const here = useHere();
  const list = useInfiniteQuery({
    queryKey: ["project", here.key, "handoffs"],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      ask(api.GET("/projects/{project}/handoffs", { params: { path: { project: here.key }, query: { limit: page, ...(pageParam > 0 && { before: pageParam }) } } })),
    getNextPageParam: (p) => (p.handoffs.length === page ? p.handoffs.at(-1)?.number : undefined),
  });
  const pins = usePins(here.key).data?.commits;
  const handoffs = list.data?.pages.flatMap((p) => p.handoffs) ?? [];
  return (
    <>
      <h1 className="mb-4">Handoffs</h1>
      <Trouble error={list.error} />
      {list.isSuccess && handoffs.length === 0 && <p className="text-peat">Nothing was handed off yet.</p>}
      <ol className="border-l-2 border-line">
        {handoffs.map((h) => (
          <li key={h.number} className="relative grid grid-cols-[4rem_1fr] gap-x-2 py-2.5 pl-5 sm:grid-cols-[4rem_1fr_auto]">
            <span aria-hidden className="absolute top-5 -left-[5px] h-0.5 w-3 bg-copper" />
            <span className="text-peat">h{h.number}</span>
            <span>
              <Link to={`/p/${here.key}/handoffs/${h.number}`} className="font-medium">{firstLine(h.note)}</Link> <Labels handoff={h} pinnedBy={pins?.filter((p) => p.handoff === h.number) ?? []} />
              <span className="block text-peat">{h.author}, <When at={h.at} /></span>
            </span>
            <span className="text-peat max-sm:col-start-2">{plural(h.count, "asset")}, {size(h.size)}</span>
          </li>
        ))}
      </ol>
      {list.hasNextPage && <Button className="mt-4" disabled={list.isFetching} onClick={() => void list.fetchNextPage()}>Earlier ones</Button>}
    </>
  );
}
