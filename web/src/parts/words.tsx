import { useSyncExternalStore } from "react";

const units = ["B", "KiB", "MiB", "GiB", "TiB"];

/** size is a number of bytes for people. */
export function size(bytes: number): string {
  let n = bytes;
  let unit = 0;
  while (n >= 1024 && unit < units.length - 1) {
    n /= 1024;
    unit++;
  }
  return `${unit === 0 || n >= 100 ? Math.round(n) : n.toFixed(1)} ${units[unit]}`;
}

export const plural = (n: number, noun: string, nouns = `${noun}s`) => `${n.toLocaleString("en")} ${n === 1 ? noun : nouns}`;

const relative = new Intl.RelativeTimeFormat("en", { numeric: "auto" });

/** ago is a time for people: how long ago within the hour, the hour of today and yesterday, the day of the week within one, and the date. */
export function ago(at: Date, now: number): string {
  const seconds = (now - at.getTime()) / 1000;
  if (seconds < 60) return "just now";
  if (seconds < 3600) return relative.format(-Math.round(seconds / 60), "minute");
  const clock = at.toLocaleTimeString("en", { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
  const days = Math.round((midnight(new Date(now)) - midnight(at)) / 86_400_000);
  if (days === 0) return `today ${clock}`;
  if (days === 1) return `yesterday ${clock}`;
  if (days < 7) return `${at.toLocaleDateString("en", { weekday: "short" })} ${clock}`;
  return at.toLocaleDateString("en", { day: "numeric", month: "short", year: "numeric" });
}

const midnight = (t: Date) => new Date(t.getFullYear(), t.getMonth(), t.getDate()).getTime();

/** When is a time for people; the exact one shows on hover, and it stays true while the page is open. */
export function When({ at }: { at: string }) {
  const now = useSyncExternalStore(ticking, () => tick);
  const date = new Date(at);
  return (
    <time dateTime={at} title={date.toLocaleString("en")} className="whitespace-nowrap">
      {ago(date, now)}
    </time>
  );
}

/** All times on a page go by one clock, which moves twice a minute. */
let tick = Date.now();
const watching = new Set<() => void>();
let timer: ReturnType<typeof setInterval> | undefined;
function ticking(l: () => void) {
  watching.add(l);
  if (watching.size === 1) {
    tick = Date.now();
    timer = setInterval(() => {
      tick = Date.now();
      for (const w of watching) w();
    }, 30_000);
  }
  return () => {
    watching.delete(l);
    if (watching.size === 0) clearInterval(timer);
  };
}

export const firstLine = (text: string) => text.split("\n", 1)[0] ?? "";

export const baseName = (path: string) => path.slice(path.lastIndexOf("/") + 1);

/** assetPath and folderPath are addresses in the console. */
export const encodePath = (path: string) => path.split("/").map(encodeURIComponent).join("/");
export const assetPath = (key: string, path: string) => `/p/${key}/asset/${encodePath(path)}`;
export const folderPath = (key: string, folder: string, at = "") =>
  `/p/${key}/assets${folder ? `/${encodePath(folder)}` : ""}${at && `?at=${encodeURIComponent(at)}`}`;

/** grown is a difference of sizes for people. */
export const grown = (bytes: number) => (bytes === 0 ? "the same size" : bytes > 0 ? `+${size(bytes)}` : `−${size(-bytes)}`);

/** comparePath is the address of a comparison of two versions. */
export const comparePath = (key: string, a: string, av: number, b: string, bv: number) =>
  `/p/${key}/compare?${new URLSearchParams(a === b ? { path: a, a: String(av), b: String(bv) } : { path: a, a: String(av), with: b, b: String(bv) })}`;
