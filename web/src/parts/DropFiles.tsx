import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { changesOf } from "../api/changes";
import { api, ask, Problem, sendFile, type Asset } from "../api/client";
import { consoleName } from "../api/locks";
import { outcomes } from "../acts/outcomes";
import type { Here } from "../pages/project/ProjectFrame";
import { Ask, fieldClass } from "./Ask";
import { Button } from "./Button";
import { Trouble } from "./Trouble";
import { plural, size } from "./words";

interface Props {
  here: Here;
  files: File[];
  /** where they were dropped */
  folder: string;
  /** the asset that one file becomes a version of, whatever it is called; undefined where each goes by its own name */
  target?: Asset | undefined;
  onClose: () => void;
}

/** What becomes of one file: a new asset, or the next version of one that is there; done, once it arrived. */
interface Item {
  file: File;
  path: string;
  base: number;
  /** Who holds the asset, where that is somebody else; what stands in the way then is known before anything is sent. */
  holder?: string | undefined;
  /** It needs its lock, which nobody has. */
  free?: boolean;
  share?: number | undefined;
  done?: boolean;
  error?: unknown;
  older?: boolean;
}

/** DropFiles asks for a note and sends files, each as what it is: a new asset, or the next version of the one of that name. */
export function DropFiles({ here, files, folder, target, onClose }: Props) {
  const [note, setNote] = useState("");
  const [items, setItems] = useState<Item[]>();
  const [busy, setBusy] = useState(false);
  const stop = useRef<AbortController>(undefined);
  const queries = useQueryClient();

  useEffect(() => {
    let gone = false;
    void Promise.all(files.map((file) => known(here, file, target?.path ?? (folder ? `${folder}/${file.name}` : file.name)))).then(
      (list) => !gone && setItems(list),
    );
    return () => {
      gone = true;
    };
  }, [here, files, folder, target]);

  // Leaving the page would cut off what is on its way: the browser asks.
  useEffect(() => {
    if (!busy) return;
    const leaving = (e: BeforeUnloadEvent) => e.preventDefault();
    addEventListener("beforeunload", leaving);
    return () => removeEventListener("beforeunload", leaving);
  }, [busy]);

  const put = (i: number, change: Partial<Item>) => setItems((list) => list?.map((item, k) => (k === i ? { ...item, ...change } : item)));
  const send = async (only?: number, older = false) => {
    setBusy(true);
    const cut = (stop.current = new AbortController());
    let failed = 0;
    const sent: string[] = [];
    for (const [i, item] of (items ?? []).entries()) {
      if (item.done || (only !== undefined && i !== only)) continue;
      put(i, { error: undefined, share: 0, older });
      try {
        await sendFile(
          here.key,
          { file: item.file, path: item.path, base: item.base, note, keepLock: false, older },
          (share) => put(i, { share }),
          cut.signal,
        );
        put(i, { done: true, share: 1 });
        sent.push(item.path);
      } catch (error) {
        failed++;
        put(i, { error, share: undefined });
        if (cut.signal.aborted) break;
      }
    }
    setBusy(false);
    if (sent.length > 0) changesOf(queries, here.key).add({ kind: "handoff.own", subject: { paths: sent } });
    if (failed === 0 && only === undefined && !cut.signal.aborted) {
      outcomes.done("send", sent.length === 1 ? `${sent[0]} is sent` : `${plural(sent.length, "file")} are sent`);
      onClose();
    }
  };
  const one = items?.length === 1 ? items[0] : undefined;
  const left = items?.filter((i) => !i.done) ?? [];
  const title = !items
    ? "Send"
    : one
      ? one.base > 0
        ? `Send version ${one.base + 1}`
        : "Send a new asset"
      : `Send ${plural(items.length, "file")}`;
  const over = items !== undefined && left.length === 0;
  return (
    <Ask
      open
      title={title}
      action={over ? "Done" : items?.some((i) => i.error) ? "Send what is left" : "Send"}
      busy={busy}
      disabled={!items || (!over && (!note.trim() || left.every((i) => i.holder)))}
      onStop={() => stop.current?.abort()}
      onAct={() => (over ? onClose() : void send())}
      onClose={onClose}
    >
      <ul className="max-h-72 space-y-1.5 overflow-y-auto">
        {(items ?? []).map((item, i) => (
          <File key={item.path + i} here={here} item={item} onOlder={() => void send(i, true)} />
        ))}
      </ul>
      {(items?.length ?? 0) > 1 && <p>Each becomes a handoff of its own, with this note.</p>}
      <label className="block">
        <span className="mb-1 block text-ink">Note</span>
        <textarea
          className={fieldClass}
          name="note"
          rows={3}
          placeholder="What was done, and why"
          value={note}
          onChange={(e) => setNote(e.target.value)}
        />
      </label>
    </Ask>
  );
}

function File({ here, item, onOlder }: { here: Here; item: Item; onOlder: () => void }) {
  const older = item.error instanceof Problem && item.error.details.refusals?.find((r) => r.reason === "older-version");
  return (
    <li className="border-b border-line/60 pb-1.5">
      <span className="wrap-anywhere">
        <span className="text-ink">{item.file.name}</span>, {size(item.file.size)}
        {item.done ? ": arrived as " : ", becomes "}
        {item.base > 0 ? `version ${item.base + 1} of ` : "a new asset, "}
        <span className="text-ink">{item.path}</span>.
      </span>
      {item.holder && (
        <span className="block text-rust">
          {item.holder === here.me ? "You hold it in another workspace" : `${item.holder} holds it`}: it can’t be sent from here.
        </span>
      )}
      {item.free && !item.done && <span className="block">It is locked for you first, and free again afterwards.</span>}
      {item.share !== undefined && !item.done && (
        <span
          role="progressbar"
          aria-label={`Sending ${item.file.name}`}
          aria-valuenow={Math.round(item.share * 100)}
          className="mt-1 block h-1.5 bg-stone"
        >
          <span className="block h-full bg-copper" style={{ width: `${item.share * 100}%` }} />
        </span>
      )}
      {older ? (
        <span role="alert" className="mt-1 block space-y-2 border-l-3 border-copper px-3 py-1 text-sm">
          <span className="block text-ink">{older.message.charAt(0).toUpperCase() + older.message.slice(1)}.</span>
          <Button onClick={onOlder}>Send it all the same</Button>
        </span>
      ) : (
        <Trouble error={item.error} />
      )}
    </li>
  );
}

/** known finds out what a file becomes: whether there is an asset of that name, and who holds it. */
async function known(here: Here, file: File, path: string): Promise<Item> {
  try {
    const { asset } = await ask(
      api.GET("/projects/{project}/asset", { params: { path: { project: here.key }, query: { path, limit: 1 } } }),
    );
    const there = !asset.gone;
    const elsewhere = asset.lock && (asset.holder !== here.me || asset.lock.workspace !== consoleName) ? asset.holder : undefined;
    return {
      file,
      path: asset.path,
      base: asset.newest,
      ...(there && elsewhere && { holder: elsewhere }),
      ...(there && !asset.lock && { free: true }),
    };
  } catch {
    return { file, path, base: 0 }; // there is none, or the service says so once it is sent
  }
}
