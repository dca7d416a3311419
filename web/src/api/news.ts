import { newsKinds } from "./words.gen";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { changesOf, type Happened } from "./changes";
import { prefix } from "./client";

/** Item is news that concerns the one who looks. */
export interface Item {
  id: string;
  text: string;
}

/** urgent are the kinds of news that are said at once, and not only shown where they belong. */
const urgent = new Set<string>(newsKinds.filter((k) => k.urgent).map((k) => k.name));

/**
 * useNews keeps a project's pages live: what happens there goes to what keeps their data true. It returns whether the stream stands, what is to
 * be said of what happened meanwhile, and how to take that away. Only a page that is looked at keeps one: a browser has few connections to a
 * service, and tabs in the back or pages that were left would hold them all.
 * since is where the first stream begins, "" until that is known; what is shown was asked for after it, so that nothing falls between the two.
 */
export function useNews(key: string, since: string): [boolean, Item[], (id: string) => void] {
  const queries = useQueryClient();
  const [live, setLive] = useState(true);
  const [items, setItems] = useState<Item[]>([]);
  const begin = useRef("");
  begin.current = since;
  const known = since !== "";
  useEffect(() => {
    if (!known) return;
    let source: EventSource | undefined;
    let missed = false;
    let again: ReturnType<typeof setTimeout> | undefined;
    const changes = changesOf(queries, key);
    const open = () => {
      if (source) return;
      source = new EventSource(
        `${prefix}/projects/${encodeURIComponent(key)}/news${missed ? "" : `?after=${encodeURIComponent(begin.current)}`}`,
      );
      source.addEventListener("news", (e: MessageEvent<string>) => {
        const { id, news, text, ...happened } = JSON.parse(e.data) as Happened & { id: string; news?: string; text?: string };
        changes.add(happened);
        if (news && text && urgent.has(news)) setItems((list) => [...list.filter((i) => i.id !== id), { id, text }].slice(-4));
      });
      source.onopen = () => {
        setLive(true);
        // After a gap, what was missed is made good; the first stream begins where what is shown was asked for.
        if (missed) void changes.all();
        missed = false;
      };
      source.onerror = () => {
        missed = true;
        setLive(false);
        // A browser tries again by itself after a broken connection, but not after an answer such as 502.
        if (source?.readyState === EventSource.CLOSED) {
          close();
          again = setTimeout(look, 3000);
          // It may be that one is signed out, or does not belong there any more: these say so.
          void queries.invalidateQueries({ queryKey: ["me"], exact: true });
          void queries.invalidateQueries({ queryKey: ["project", key], exact: true });
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
  }, [key, known, queries]);
  return [live, items, (id) => setItems((list) => list.filter((i) => i.id !== id))];
}
