import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { prefix } from "./client";

/**
 * useNews keeps a project's pages live: whatever happens there makes what they show be asked for again. It returns whether the
 * stream stands.
 */
export function useNews(key: string): boolean {
  const queries = useQueryClient();
  const [live, setLive] = useState(true);
  useEffect(() => {
    const source = new EventSource(`${prefix}/projects/${encodeURIComponent(key)}/news`);
    let failed = false;
    const refresh = () => void queries.invalidateQueries({ queryKey: ["project", key] });
    source.addEventListener("news", refresh);
    source.onopen = () => {
      setLive(true);
      // After a gap, what was missed is made good; the first opening has nothing to make good.
      if (failed) refresh();
      failed = false;
    };
    source.onerror = () => {
      failed = true;
      setLive(false);
    };
    return () => source.close();
  }, [key, queries]);
  return live;
}
