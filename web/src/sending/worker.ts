// Cuts files in a worker of its own, so that the page stays free: by the core's own code, built for WebAssembly.
import "../../made/wasm_exec.js";
import address from "../../made/cutting.wasm?url";
import type { Asked, Cut, Piece } from "./cutting";

declare const Go: new () => { importObject: WebAssembly.Imports; run: (instance: WebAssembly.Instance) => Promise<void> };
declare const cutting: {
  begin: () => void;
  take: (bytes: Uint8Array, last: boolean) => Piece[];
  end: () => { content: string; pieces: Piece[] };
};

/** So much of a file is read at once, in bytes. */
const stretch = 4 << 20;

const ready = (async () => {
  const go = new Go();
  const { instance } = await WebAssembly.instantiateStreaming(fetch(address), go.importObject);
  void go.run(instance);
})();

let file: Blob = new Blob();
let at = 0;

async function next(): Promise<Cut> {
  if (at === 0) cutting.begin();
  const bytes = new Uint8Array(await file.slice(at, at + stretch).arrayBuffer());
  at += bytes.length;
  const pieces = cutting.take(bytes, at >= file.size);
  if (at < file.size) return { pieces, read: bytes.length };
  const end = cutting.end();
  return { pieces: [...pieces, ...end.pieces], read: bytes.length, content: end.content };
}

addEventListener("message", async ({ data }: MessageEvent<Asked>) => {
  if (data.file) [file, at] = [data.file, 0];
  try {
    await ready;
  } catch (error) {
    postMessage({ pieces: [], read: 0, failed: String(error), unstarted: true } satisfies Cut);
    return;
  }
  try {
    const cut = await next();
    postMessage(cut, { transfer: cut.pieces.map((p) => p.record.buffer as ArrayBuffer) });
  } catch (error) {
    postMessage({ pieces: [], read: 0, failed: String(error) } satisfies Cut);
  }
});
