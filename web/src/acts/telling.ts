import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useSyncExternalStore } from "react";
import { api, ask } from "../api/client";
import { newsKinds } from "../api/words.gen";
import { titles } from "../parts/title";
import { plainly } from "../parts/Trouble";

const name = "tell in the browser";
const listeners = new Set<() => void>();

/** telling is whether one wants to be told in the browser: in the tab's title, and by its own notifications. */
export const telling = {
  is: () => localStorage.getItem(name) === "yes",
  /** Begins, once the browser was asked; it returns whether the browser shows notifications. */
  async begin(): Promise<boolean> {
    localStorage.setItem(name, "yes");
    for (const l of listeners) l();
    if (!("Notification" in window)) return false;
    return (await Notification.requestPermission()) === "granted";
  },
  end() {
    localStorage.removeItem(name);
    for (const l of listeners) l();
  },
};

export const useTelling = () =>
  useSyncExternalStore((l) => {
    listeners.add(l);
    return () => listeners.delete(l);
  }, telling.is);

const urgent = new Set<string>(newsKinds.filter((k) => k.urgent).map((k) => k.name));

/** useTold looks for what concerns one while the page is in the back, and tells it: how much is new in the title, and what is urgent at once. */
export function useTold() {
  const on = useTelling();
  const seen = useRef(-1);
  const latest = useQuery({
    queryKey: ["me", "news", "told"],
    enabled: on,
    refetchInterval: 30_000,
    refetchIntervalInBackground: true,
    queryFn: () => ask(api.GET("/me/news/latest", { params: { query: { limit: 20 } } })),
  });
  const list = latest.data?.news;
  useEffect(() => {
    if (!on || !list) return titles.count(0);
    titles.count(list.filter((n) => n.unread).length);
    const before = seen.current;
    seen.current = Math.max(before, list[0]?.id ?? 0);
    if (before < 0 || !document.hidden || !("Notification" in window) || Notification.permission !== "granted") return;
    for (const n of list.filter((n) => n.id > before && urgent.has(n.kind)).slice(0, 4)) {
      new Notification(n.project, { body: plainly(n.text), tag: String(n.id) }).onclick = () => window.focus();
    }
  }, [on, list]);
}
