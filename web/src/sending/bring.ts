import { api, ask, Problem, stopped, unreadable, unstarted } from "../api/client";
import { Cutter, Unstarted, type Piece } from "./cutting";

/** Bounds of one request, in bytes and pieces, and how many are under way at once. */
const batchBytes = 8 << 20;
const batchPieces = 4096;
const inFlight = 3;

/** Progress is told how many bytes more are done: cut, and at the service. */
type Progress = (bytes: number) => void;

/**
 * bring cuts files and brings to the service what it lacks of them; it returns what each content is named. What arrived stays for two weeks:
 * bringing the same files again goes on where it stopped.
 */
export async function bring(key: string, files: readonly File[], progress: Progress, signal: AbortSignal): Promise<string[]> {
  const cutter = new Cutter();
  const group = new AbortController();
  const stop = () => group.abort();
  signal.addEventListener("abort", stop);
  const under = new Set<Promise<void>>();
  let failed: unknown;
  let batch: Piece[] = [];
  let held = 0;
  let read = 0; // bytes that are done once this batch is
  const seen = new Set<string>();
  const flush = async () => {
    while (under.size >= inFlight) await Promise.race(under);
    if (failed) throw failed;
    const [pieces, bytes] = [batch, read];
    [batch, held, read] = [[], 0, 0];
    const one = store(key, pieces, group.signal)
      .then(() => progress(bytes))
      .catch((error: unknown) => {
        failed ??= error;
        stop();
      })
      .finally(() => under.delete(one));
    under.add(one);
  };
  try {
    const contents: string[] = [];
    for (const file of files) {
      const pieces = cutter.cut(file);
      for (;;) {
        const step = await pieces.next().catch((error: unknown) => {
          throw new Problem(error instanceof Unstarted ? unstarted : unreadable(file.name));
        });
        if (step.done) {
          contents.push(step.value);
          break;
        }
        if (signal.aborted) throw new Problem(stopped);
        if (failed) throw failed;
        for (const piece of step.value.pieces) {
          if (seen.has(piece.digest)) continue;
          seen.add(piece.digest);
          batch.push(piece);
          held += piece.record.length;
        }
        read += step.value.read;
        if (held >= batchBytes || batch.length >= batchPieces) await flush();
      }
    }
    await flush();
    await Promise.all(under);
    if (failed) throw failed;
    return contents;
  } catch (error) {
    throw signal.aborted ? new Problem(stopped) : error;
  } finally {
    stop();
    signal.removeEventListener("abort", stop);
    cutter.close();
  }
}

/** store brings those pieces that the project lacks. */
async function store(key: string, pieces: Piece[], signal: AbortSignal): Promise<void> {
  if (pieces.length === 0) return;
  const { digests } = await ask(
    api.POST("/projects/{project}/chunks/missing", {
      params: { path: { project: key } },
      body: { digests: pieces.map((p) => p.digest) },
      signal,
    }),
  );
  const lacking = new Set(digests);
  const records = pieces.filter((p) => lacking.has(p.digest)).map((p) => p.record as Uint8Array<ArrayBuffer>);
  if (records.length === 0) return;
  await ask(
    api.POST("/projects/{project}/chunks", {
      params: { path: { project: key } },
      // The body is records one behind the other, which no schema describes.
      body: new Blob(records) as unknown as string,
      bodySerializer: (body) => body as unknown as Blob,
      headers: { "Content-Type": "application/cbor-seq" },
      signal,
    }),
  );
}
