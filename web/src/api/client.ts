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

const stopped: Schemas["ProblemDetails"] = {
  type: "urn:kettletarn:stopped",
  title: "Stopped",
  status: 0,
  detail: "It was stopped, and nothing of it arrived.",
  remedy: "Send it again when you want.",
};

export const api = createClient<paths>({ baseUrl: prefix });

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
  `${prefix}/projects/${encodeURIComponent(key)}/${call}?${new URLSearchParams(Object.entries(query).map(([k, v]) => [k, String(v)]))}`;

export const fileAddress = (key: string, path: string, version: number) => inProject(key, "file", { path, version });

/** archiveAddress is the project, or a folder of it, as it was, in one file. */
export const archiveAddress = (key: string, at: string, path: string, form: "zip" | "tar") =>
  inProject(key, "archive", { at, form, ...(path && { path }) });

export const pictureAddress = (key: string, path: string, version: number, edge: 96 | 320 | 1280) =>
  inProject(key, "thumbnail", { path, version, edge });

/** hasPicture says whether the service may be able to draw an asset. */
export const hasPicture = (path: string) => kindOf(path) !== "other";

export interface Drop {
  file: File;
  path: string;
  base: number;
  note: string;
  keepLock: boolean;
  /** going back to the content of an older version is meant */
  older?: boolean;
}

/** sendFile sends one dropped file, and tells how far it is, 0 to 1. fetch can't tell that of an upload. */
export function sendFile(
  key: string,
  drop: Drop,
  progress: (share: number) => void,
  signal?: AbortSignal,
): Promise<Schemas["SendReceipt"]> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open(
      "POST",
      inProject(key, "drop", {
        path: drop.path,
        base: drop.base,
        note: drop.note,
        keep_lock: String(drop.keepLock),
        ...(drop.older && { older: "true" }),
      }),
    );
    request.setRequestHeader("Content-Type", "application/octet-stream");
    request.setRequestHeader("Idempotency-Key", newKey());
    request.upload.onprogress = (e) => e.lengthComputable && progress(e.loaded / e.total);
    request.onabort = () => reject(new Problem(stopped));
    signal?.addEventListener("abort", () => request.abort(), { once: true });
    if (signal?.aborted) return reject(new Problem(stopped));
    request.onerror = () => reject(new Problem(unreachable));
    request.onload = () => {
      let body: unknown;
      try {
        body = JSON.parse(request.responseText);
      } catch {
        body = undefined;
      }
      if (request.status < 300) resolve(body as Schemas["SendReceipt"]);
      else reject(new Problem(isProblem(body) ? body : { ...unreachable, status: request.status }));
    };
    request.send(drop.file);
  });
}

/** newKey is the key of one send: a UUID, also where the page is not served over TLS and crypto.randomUUID is missing. */
export function newKey(): string {
  const b = crypto.getRandomValues(new Uint8Array(16));
  b[6] = (b[6]! & 0x0f) | 0x40;
  b[8] = (b[8]! & 0x3f) | 0x80;
  const hex = [...b].map((v) => v.toString(16).padStart(2, "0")).join("");
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`;
}
