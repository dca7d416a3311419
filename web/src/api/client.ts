import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";
import { kindOf } from "./words.gen";

export type Schemas = components["schemas"];
export type Asset = Schemas["Asset"];
export type Lock = Schemas["Lock"];
export type Version = Schemas["Version"];
export type Handoff = Schemas["Handoff"];
export type Project = Schemas["Project"];

export const prefix = "/api/v1";

/** A Problem is what the service answers in place of what was asked for, in its own words. */
export class Problem extends Error {
  constructor(readonly details: Schemas["ProblemDetails"]) {
    super(details.detail);
  }
  get signedOut() {
    return this.details.type.endsWith("not-signed-in");
  }
}

const unreachable: Schemas["ProblemDetails"] = {
  type: "urn:kettletarn:unreachable",
  title: "No answer",
  status: 0,
  detail: "The service does not answer.",
  remedy: "Check the network. The page goes on by itself as soon as it does.",
};

export const stopped: Schemas["ProblemDetails"] = {
  type: "urn:kettletarn:stopped",
  title: "Stopped",
  status: 0,
  detail: "It was stopped, and nothing of it is handed off.",
  remedy: "Send it again when you want: what arrived does not travel again.",
};

export const unstarted: Schemas["ProblemDetails"] = {
  type: "urn:kettletarn:unstarted",
  title: "Not started",
  status: 0,
  detail: "The part of this page that sends files did not start.",
  remedy: "Load the page again. Where that does not help, this browser may not allow WebAssembly.",
};

export const unreadable = (name: string): Schemas["ProblemDetails"] => ({
  type: "urn:kettletarn:unreadable",
  title: "Can't be read",
  status: 0,
  detail: `${name} can't be read.`,
  remedy: "It may have been changed, moved or locked by a program since it was chosen: choose it again.",
});

export const api = createClient<paths>({ baseUrl: prefix });

/** Who looks by the link of a showing asks by that link for what is in a project. */
const link = typeof location === "undefined" ? undefined : /^\/shown\/([^/]+)/.exec(location.pathname)?.[1];
if (link) {
  api.use({ onRequest: ({ request }) => new Request(request.url.replace(/\/projects\/[^/]+/, `/shown/${link}`), request) });
}
const projectAt = (key: string) => (link ? `${prefix}/shown/${link}` : `${prefix}/projects/${encodeURIComponent(key)}`);

/** ask unwraps an answer: its data, or a Problem thrown. */
export async function ask<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer: { data?: T; error?: unknown; response: Response };
  try {
    answer = await call;
  } catch {
    throw new Problem(unreachable);
  }
  if (answer.response.ok) return answer.data as T;
  throw new Problem(isProblem(answer.error) ? answer.error : { ...unreachable, status: answer.response.status });
}

function isProblem(v: unknown): v is Schemas["ProblemDetails"] {
  return typeof v === "object" && v !== null && "detail" in v && "status" in v;
}

export const inProject = (key: string, call: string, query: Record<string, string | number>) =>
  `${projectAt(key)}/${call}?${new URLSearchParams(Object.entries(query).map(([k, v]) => [k, String(v)]))}`;

export const fileAddress = (key: string, path: string, version: number) => inProject(key, "file", { path, version });

/** archiveAddress is the project, or a folder of it, as it was, in one file. */
export const archiveAddress = (key: string, at: string, path: string, form: "zip" | "tar") =>
  inProject(key, "archive", { at, form, ...(path && { path }) });

export const pictureAddress = (key: string, path: string, version: number, edge: 96 | 320 | 1280) =>
  inProject(key, "thumbnail", { path, version, edge });

/** hasPicture says whether the service may be able to draw an asset. */
export const hasPicture = (path: string) => kindOf(path) !== "other";

/** newKey is the key of one send: a UUID, also where the page is not served over TLS and crypto.randomUUID is missing. */
export function newKey(): string {
  const b = crypto.getRandomValues(new Uint8Array(16));
  b[6] = (b[6]! & 0x0f) | 0x40;
  b[8] = (b[8]! & 0x3f) | 0x80;
  const hex = [...b].map((v) => v.toString(16).padStart(2, "0")).join("");
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`;
}
