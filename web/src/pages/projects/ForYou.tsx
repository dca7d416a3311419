import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, type Schemas } from "../../api/client";
import { Button } from "../../parts/Button";
import { plainly, Trouble } from "../../parts/Trouble";
import { assetPath, When } from "../../parts/words";

type Item = Schemas["NewsItem"];

/** Where news leads: to the handoff that it is about, or to the asset. */
function placeOf(n: Item): string {
  if (n.handoff) return `/p/${n.project}/handoffs/${n.handoff}`;
  return n.paths?.[0] ? assetPath(n.project, n.paths[0]) : `/p/${n.project}`;
}

/** ForYou is what happened that concerns one, in all one's projects, the newest first. */
export function ForYou() {
  const queries = useQueryClient();
  const queryKey = ["me", "news", "latest"];
  const news = useInfiniteQuery({
    queryKey,
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      ask(api.GET("/me/news/latest", { params: { query: { limit: 20, ...(pageParam > 0 && { before: pageParam }) } } })),
    getNextPageParam: (p) => p.next || undefined,
    refetchInterval: 60_000,
  });
  const list = news.data?.pages.flatMap((p) => p.news) ?? [];
  const unread = list.filter((n) => n.unread).length;
  const seen = useMutation({
    mutationFn: () => ask(api.PUT("/me/news/latest", { body: { up_to: list[0]?.id ?? 0 } })),
    onSuccess: () => queries.invalidateQueries({ queryKey }),
  });
  return (
    <section aria-labelledby="for-you">
      <div className="mb-4 flex flex-wrap items-center gap-x-4 gap-y-1">
        <h2 id="for-you" className="text-xl">
          For you{unread > 0 && <span className="font-normal text-copper"> {unread} new</span>}
        </h2>
        {unread > 0 && (
          <Button kind="quiet" disabled={seen.isPending} onClick={() => seen.mutate()}>
            I have seen these
          </Button>
        )}
      </div>
      <Trouble error={news.error ?? seen.error} />
      {news.isSuccess && list.length === 0 && (
        <p className="text-peat">Nothing yet: asks, turns, answers, reviews and new work show here.</p>
      )}
      <ul className="divide-y divide-line border-y border-line">
        {list.map((n) => (
          <li key={n.id} className={`py-2.5 pl-3 ${n.unread ? "border-l-3 border-l-copper" : "border-l-3 border-l-transparent"}`}>
            <Link to={placeOf(n)} className={`wrap-anywhere ${n.unread ? "font-medium" : ""}`}>
              {plainly(n.text)}
            </Link>
            <span className="block text-peat">
              {n.unread && <span className="text-copper">new; </span>}
              {n.project}, <When at={n.at} />
            </span>
          </li>
        ))}
      </ul>
      {news.hasNextPage && (
        <Button className="mt-3" disabled={news.isFetching} onClick={() => void news.fetchNextPage()}>
          Earlier
        </Button>
      )}
    </section>
  );
}
