import { api, ask } from "../api/client";

/** What is kept of a sign-in by the house while the browser is there: what it has to come back with, and where one goes then. */
const place = "tarn-house";

/** toTheHouse leads the browser to the sign-on of the house; to is a page of this console. */
export async function toTheHouse(to: string) {
  const way = await ask(api.POST("/sign-in/house/begin"));
  sessionStorage.setItem(place, JSON.stringify({ state: way.state, to }));
  location.assign(way.address);
}

/** fromTheHouse is what the browser came back with, where this window asked; undefined where it did not. It is told once. */
export function fromTheHouse(): { state: string; code: string; to: string } | undefined {
  const came = new URLSearchParams(location.search);
  const [state, code] = [came.get("state"), came.get("code")];
  const text = sessionStorage.getItem(place);
  sessionStorage.removeItem(place);
  const kept = text ? (JSON.parse(text) as { state: string; to: string }) : undefined;
  return kept && state === kept.state ? { state, code: code ?? "", to: kept.to } : undefined;
}

/** inside says whether an address leads to a page of this console: a backslash, or anything that a browser takes out of it, may not. */
export const inside = (to: string) => /^\/(?![/\\])[^\\\s]*$/.test(to) && new URL(to, location.origin).origin === location.origin;
