import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { prefix } from "./client";

/**
 * useNews keeps a project's pages live: whatever happens there makes what they show be asked for again. It returns whether the
 * stream stands. Only a page that is looked at keeps one: a browser has few connections to a service, and tabs in the back or pages
 * that were left would hold them all.
 */
export function useNews(key: string): boolean {
  const queries = useQueryClient();
  const [live, setLive] = useState(true);
  useEffect(() => {
    let source: EventSource | undefined;
    let missed = false;
    let again: ReturnType<typeof setTimeout> | undefined;
    const refresh = () => void queries.invalidateQueries({ queryKey: ["project", key] });
    const open = () => {
      if (source) return;
      source = new EventSource(`${prefix}/projects/${encodeURIComponent(key)}/news`);
      source.addEventListener("news", refresh);
      source.onopen = () => {
        setLive(true);
        // After a gap, what was missed is made good; the first opening has nothing to make good.
        if (missed) refresh();
        missed = false;
      };
      source.onerror = () => {
        missed = true;
        setLive(false);
        // A browser tries again by itself after a broken connection, but not after an answer such as 502.
        if (source?.readyState === EventSource.CLOSED) {
          close();
          again = setTimeout(look, 3000);
        }
      };
    };
    const close = () => {
      clearTimeout(again);
      source?.close();
      source = undefined;
      missed = true;
    };
    const look = () => (document.visibilityState === "visible" ? open() : close());
    look();
    document.addEventListener("visibilitychange", look);
    addEventListener("pagehide", close);
    addEventListener("pageshow", look);
    return () => {
      document.removeEventListener("visibilitychange", look);
      removeEventListener("pagehide", close);
      removeEventListener("pageshow", look);
      close();
    };
  }, [key, queries]);
  return live;
}
