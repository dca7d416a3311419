import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { api, ask } from "../../api/client";

/** useFolder lists what lies right in a folder, or, with a search, what has it in its path anywhere; page after page, as of a state. */
export function useFolder(key: string, folder: string, search: string, at: string) {
  return useInfiniteQuery({
    queryKey: ["project", key, "folder", folder, search, at],
    initialPageParam: "",
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/projects/{project}/folder", {
          params: { path: { project: key }, query: { path: folder, limit: 500, ...(search && { search }), ...(at && { at }), ...(pageParam && { after: pageParam }) } },
        }),
      ),
    getNextPageParam: (page) => (page.next),
  });
}
