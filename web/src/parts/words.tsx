import { useEffect, useState } from "react";

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

export const plural = (n: number, noun: string) => `${n.toLocaleString("en")} ${noun}${n === 1 ? "" : "s"}`;

const relative = new Intl.RelativeTimeFormat("en", { numeric: "auto" });

function ago(at: Date, now: number): string {
  const seconds = (at.getTime() - now) / 1000;
  const steps: [number, Intl.RelativeTimeFormatUnit][] = [[86400, "day"], [3600, "hour"], [60, "minute"]];
  if (-seconds > 8 * 86400) return at.toLocaleDateString("en", { day: "numeric", month: "short", year: "numeric" });
  for (const [length, unit] of steps) if (-seconds >= length) return relative.format(Math.round(seconds / length), unit);
  return "just now";
}

/** When is a time for people; the exact one shows on hover, and it stays true while the page is open. */
export function When({ at }: { at: string }) {
  const [now, setNow] = useState(Date.now);
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 30_000);
    return () => clearInterval(timer);
  }, []);
  const date = new Date(at);
  return (
    <time dateTime={at} title={date.toLocaleString("en")} className="whitespace-nowrap">
      {ago(date, now)}
    </time>
  );
}

export const firstLine = (text: string) => text.split("\n", 1)[0] ?? "";

export const baseName = (path: string) => path.slice(path.lastIndexOf("/") + 1);

/** assetPath and folderPath are addresses in the console. */
export const encodePath = (path: string) => path.split("/").map(encodeURIComponent).join("/");
export const assetPath = (key: string, path: string) => `/p/${key}/asset/${encodePath(path)}`;
export const folderPath = (key: string, folder: string, at = "") => `/p/${key}/assets${folder ? `/${encodePath(folder)}` : ""}${at && `?at=${encodeURIComponent(at)}`}`;

/** grown is a difference of sizes for people. */
export const grown = (bytes: number) => (bytes === 0 ? "the same size" : bytes > 0 ? `+${size(bytes)}` : `−${size(-bytes)}`);

/** comparePath is the address of a comparison of two versions. */
export const comparePath = (key: string, a: string, av: number, b: string, bv: number) =>
  `/p/${key}/compare?${new URLSearchParams(a === b ? { path: a, a: String(av), b: String(bv) } : { path: a, a: String(av), with: b, b: String(bv) })}`;
