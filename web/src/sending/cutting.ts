/** A piece of a file as it travels, whose digest names it. size is that of the content in it, in bytes. */
export interface Piece {
  digest: string;
  record: Uint8Array;
  size: number;
}

/** What the worker is asked for: what comes next of this file, or of the one before. */
export interface Asked {
  file?: Blob;
}

/** Some pieces, how many bytes of the file were read for them, and, behind the last ones, what the whole content is named. */
export interface Cut {
  pieces: Piece[];
  read: number;
  content?: string;
  failed?: string;
  /** What cuts files did not start. */
  unstarted?: boolean;
}

/** Unstarted is thrown where what cuts files did not start: no file is at fault. */
export class Unstarted extends Error {}

/** Cutter cuts one file after the other. */
export class Cutter {
  private readonly worker = new Worker(new URL("./worker.ts", import.meta.url), { type: "module" });
  private waiting: ((cut: Cut) => void) | undefined;

  constructor() {
    this.worker.onmessage = ({ data }: MessageEvent<Cut>) => this.waiting?.(data);
    this.worker.onerror = (e) => this.waiting?.({ pieces: [], read: 0, failed: e.message, unstarted: true });
  }

  private ask(asked: Asked): Promise<Cut> {
    return new Promise((resolve, reject) => {
      this.waiting = (cut) => {
        if (cut.failed === undefined) resolve(cut);
        else reject(cut.unstarted ? new Unstarted(cut.failed) : new Error(cut.failed));
      };
      this.worker.postMessage(asked);
    });
  }

  /** cut gives the pieces of a file as they are cut, and returns what its content is named. Whoever takes them holds it back. */
  async *cut(file: Blob): AsyncGenerator<Cut, string> {
    let cut = await this.ask({ file });
    for (;;) {
      yield cut;
      if (cut.content !== undefined) return cut.content;
      cut = await this.ask({});
    }
  }

  close() {
    this.worker.terminate();
  }
}
