import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { api, ask } from "../../api/client";

/** useFolder lists what lies right in a folder, or, with a search, what has it in its path anywhere; page after page. */
export function useFolder(key: string, folder: string, search: string) {
  return useInfiniteQuery({
    queryKey: ["project", key, "folder", folder, search],
    initialPageParam: "",
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/projects/{project}/folder", {
          params: { path: { project: key }, query: { path: folder, limit: 500, ...(search && { search }), ...(pageParam && { after: pageParam }) } },
        }),
      ),
    getNextPageParam: (page) => (page.next),
  });
}
