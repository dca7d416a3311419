import { useQuery } from "@tanstack/react-query";
import { api, ask, type Schemas } from "../../api/client";
import { useAct } from "../branches/useBranches";

export type Review = Schemas["Review"];
export type Acts = ReturnType<typeof useReviewActs>;

export const useReviews = (key: string) =>
  useQuery({
    queryKey: ["project", key, "reviews"],
    queryFn: () => ask(api.GET("/projects/{project}/reviews", { params: { path: { project: key } } })),
  });

export const useReview = (key: string, number: number) =>
  useQuery({
    queryKey: ["project", key, "review", number],
    queryFn: () => ask(api.GET("/projects/{project}/reviews/{review}", { params: { path: { project: key, review: String(number) } } })),
  });

/** useSpots is where the remarks that point at an asset are on one of its versions. said is how much was said: with more, they are asked for again. */
export const useSpots = (key: string, number: number, path: string, version: number, said: number) =>
  useQuery({
    queryKey: ["project", key, "spots", number, path, version, said],
    enabled: path !== "" && version > 0,
    staleTime: Infinity,
    queryFn: () =>
      ask(
        api.GET("/projects/{project}/reviews/{review}/spots", {
          params: { path: { project: key, review: String(number) }, query: { path, version } },
        }),
      ),
  });

/** useReviewActs is what may be done in a review. */
export function useReviewActs(key: string, number: number) {
  const path = { project: key, review: String(number) };
  return {
    answer: useAct(key, (body: Schemas["AnswerRequest"]) =>
      ask(api.POST("/projects/{project}/reviews/{review}/answer", { params: { path }, body })),
    ),
    say: useAct(key, (body: Schemas["RemarkRequest"]) =>
      ask(api.POST("/projects/{project}/reviews/{review}/remarks", { params: { path }, body })),
    ),
    settle: useAct(key, (body: Schemas["SettleRequest"]) =>
      ask(api.POST("/projects/{project}/reviews/{review}/settle", { params: { path }, body })),
    ),
    close: useAct(key, (_: undefined) => ask(api.POST("/projects/{project}/reviews/{review}/close", { params: { path } }))),
  };
}
