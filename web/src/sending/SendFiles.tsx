import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useLayoutEffect, useRef, useState } from "react";
import { outcomes } from "../acts/outcomes";
import { changesOf } from "../api/changes";
import { api, ask, newKey, Problem, type Asset } from "../api/client";
import { Ask, fieldClass } from "../parts/Ask";
import { Button } from "../parts/Button";
import { remedy, sentence, Trouble } from "../parts/Trouble";
import { plural, size } from "../parts/words";
import { bring } from "./bring";
import { base, change, elsewhere, isNew, prepare, refuse, sending, type About, type Given, type Item, type Sender } from "./prepare";
import { unfinished } from "./unfinished";

interface Props {
  here: Sender;
  files: Given[];
  /** where they were dropped */
  folder: string;
  /** the asset that one file becomes a version of, whatever it is called; undefined where each goes by its own name */
  target?: Asset | undefined;
  /** What stands in the note as long as nobody wrote one. */
  proposed?: string;
  onClose: () => void;
  /** It was handed off. */
  onSent?: () => void;
}

interface Progress {
  done: number;
  total: number;
  began: number;
}

/** SendFiles asks for a note and sends files as one handoff, each as what it is: a new asset, or the next version of the one of that name. */
export function SendFiles({ here, files, folder, target, proposed = "", onClose, onSent }: Props) {
  const before = unfinished.of(here.key);
  const [note, setNote] = useState(before?.note ?? proposed);
  const [tasks, setTasks] = useState("");
  const [stage, setStage] = useState("");
  const [progress, setProgress] = useState<Progress>();
  const [error, setError] = useState<unknown>();
  const stop = useRef<AbortController>(undefined);
  const key = useRef(newKey());
  const done = useRef(0);
  const contents = useRef(new Map<File, string>());
  const queries = useQueryClient();
  const items = useQuery({
    queryKey: ["project", here.key, "prepare", files, folder, target?.path],
    queryFn: () => prepare(here, files, folder, target),
    gcTime: 0,
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
    refetchOnWindowFocus: false,
  });
  const list = items.data ?? [];
  const going = list.filter((i) => i.refusals.length === 0);
  const busy = progress !== undefined;

  // Leaving the page would cut off what is on its way: the browser asks.
  useLayoutEffect(() => {
    if (!busy) return;
    const leaving = (e: BeforeUnloadEvent) => e.preventDefault();
    addEventListener("beforeunload", leaving);
    return () => removeEventListener("beforeunload", leaving);
  }, [busy]);
  useEffect(() => {
    if (!busy) return;
    const timer = setInterval(() => setProgress((p) => p && { ...p, done: done.current }), 150);
    return () => clearInterval(timer);
  }, [busy]);
  useEffect(() => () => stop.current?.abort(), []);

  const send = async (older = false) => {
    const cut = (stop.current = new AbortController());
    const total = going.reduce((n, i) => n + i.file.size, 0);
    const left = going.filter((i) => !contents.current.has(i.file));
    done.current = total - left.reduce((n, i) => n + i.file.size, 0);
    setError(undefined);
    setProgress({ done: done.current, total, began: Date.now() });
    unfinished.keep(here.key, { files: going.length, folder, note });
    try {
      const named = await bring(
        here.key,
        left.map((i) => i.file),
        (bytes) => {
          done.current += bytes;
        },
        cut.signal,
      );
      for (const [i, item] of left.entries()) contents.current.set(item.file, named[i]!);
      const changed = going.filter((i) => isNew(i) || contents.current.get(i.file) !== i.asset!.content);
      if (changed.length === 0) {
        unfinished.over(here.key);
        outcomes.done(
          "send",
          going.length === 1 ? `${going[0]!.path} is the same as what is there` : "All of them are the same as what is there",
        );
        onClose();
        return;
      }
      const about: About = {
        note,
        tasks: tasks.split(/[\s,]+/).filter(Boolean),
        ...(stage.trim() && { stage: stage.trim() }),
        ...(older && { older }),
      };
      const { handoff } = await ask(
        api.POST("/projects/{project}/handoffs", {
          params: { path: { project: here.key }, header: { "Idempotency-Key": key.current } },
          body: sending(
            changed.map((i) => change(i, contents.current.get(i.file)!)),
            about,
          ),
          signal: cut.signal,
        }),
      );
      unfinished.over(here.key);
      changesOf(queries, here.key).add({
        kind: "handoff.own",
        subject: { paths: changed.slice(0, 100).map((i) => i.path), count: changed.length },
      });
      const same = going.length - changed.length;
      outcomes.done(
        "send",
        `${changed.length === 1 ? `${changed[0]!.path} is` : `${plural(changed.length, "file")} are`} sent, as h${handoff.number}` +
          (same > 0 ? `; ${plural(same, "other")} ${same === 1 ? "is" : "are"} the same as what is there` : ""),
      );
      onClose();
      onSent?.();
    } catch (e) {
      if (e instanceof Problem && e.details.refusals?.length) {
        key.current = newKey();
        unfinished.over(here.key); // it came to its end, and to none that goes on by itself
        const asked = e.details.refusals.filter((r) => r.reason === "older-version");
        const others = e.details.refusals.filter((r) => r.reason !== "older-version");
        if (others.length > 0)
          queries.setQueryData(["project", here.key, "prepare", files, folder, target?.path], refuse([...list], others));
        setError(
          asked.length > 0 ? e : others.some((r) => !list.some((i) => i.path.toLowerCase() === r.path.toLowerCase())) ? e : undefined,
        );
      } else setError(e);
    } finally {
      setProgress(undefined);
    }
  };

  const older = error instanceof Problem && error.details.refusals?.some((r) => r.reason === "older-version");
  const one = list.length === 1 ? list[0] : undefined;
  const title = !items.data
    ? "Send"
    : one
      ? isNew(one)
        ? "Send a new asset"
        : `Send version ${base(one) + 1}`
      : `Send ${plural(list.length, "file")}`;
  return (
    <Ask
      open
      title={title}
      action={going.length < list.length && going.length > 0 ? `Send ${plural(going.length, "file")}` : "Send"}
      busy={busy}
      disabled={!items.data || !note.trim() || going.length === 0}
      onStop={() => stop.current?.abort()}
      onAct={() => void send()}
      onClose={onClose}
    >
      {before && (
        <p role="status">
          {plural(before.files, "file")} were on their way when the page was left. What arrived of them does not travel again.
        </p>
      )}
      {items.isPending && <p>Looking at what {files.length === 1 ? "it becomes" : "they become"} …</p>}
      <Becoming here={here} items={list} />
      {progress && <Bar progress={progress} />}
      {older ? (
        <div role="alert" className="space-y-2 border-l-3 border-copper px-3 py-1">
          {error.details.refusals!.slice(0, 8).map((r) => (
            <p key={r.path} className="text-ink">
              {sentence(r.message)}
            </p>
          ))}
          <Button onClick={() => void send(true)}>Send it all the same</Button>
        </div>
      ) : (
        <Trouble error={items.error ?? error} />
      )}
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
      <div className="flex gap-3">
        <label className="block flex-1">
          <span className="mb-1 block">Tasks</span>
          <input className={fieldClass} value={tasks} onChange={(e) => setTasks(e.target.value)} placeholder="BRL-112" />
        </label>
        <label className="block flex-1">
          <span className="mb-1 block">Stage</span>
          <input className={fieldClass} value={stage} onChange={(e) => setStage(e.target.value)} maxLength={40} />
        </label>
      </div>
    </Ask>
  );
}

/** So many files are named at once. */
const shown = 60;

/** Becoming is what becomes of each file: those in whose way something stands come first. */
function Becoming({ here, items }: { here: Sender; items: Item[] }) {
  const sorted = [...items.filter((i) => i.refusals.length > 0), ...items.filter((i) => i.refusals.length === 0)];
  const left = items.filter((i) => i.refusals.length > 0).length;
  const total = items.reduce((n, i) => n + i.file.size, 0);
  return (
    <>
      {items.length > 1 && (
        <p>
          {plural(items.filter(isNew).length, "new asset")} and {plural(items.filter((i) => !isNew(i)).length, "new version")},{" "}
          {size(total)} in all. They become one handoff.{left > 0 && ` ${plural(left, "file")} ${left === 1 ? "is" : "are"} left out.`}
        </p>
      )}
      <ul className="max-h-60 space-y-1.5 overflow-y-auto">
        {sorted.slice(0, shown).map((item) => (
          <li key={item.path} className="border-b border-line/60 pb-1.5">
            <span className="wrap-anywhere">
              <span className="text-ink">{item.file.name}</span>, {size(item.file.size)}
              {", becomes "}
              {isNew(item) ? "a new asset, " : `version ${base(item) + 1} of `}
              <span className="text-ink">{item.path}</span>.
            </span>
            {item.refusals.map((r) => (
              <span key={r.reason} className="block text-rust">
                {elsewhere(here, item) ? "You hold it in another workspace: it can’t be sent from here." : sentence(r.message)}{" "}
                {!elsewhere(here, item) && remedy(r) && <span className="text-peat">{sentence(remedy(r))}</span>}
              </span>
            ))}
            {item.free && <span className="block">It is locked for you first, and free again afterwards.</span>}
          </li>
        ))}
        {sorted.length > shown && <li>and {(sorted.length - shown).toLocaleString("en")} more</li>}
      </ul>
    </>
  );
}

/** Bar says how far it is, how fast, and for how long it goes on. */
function Bar({ progress: p }: { progress: Progress }) {
  const share = p.total > 0 ? Math.min(1, p.done / p.total) : 1;
  const seconds = (Date.now() - p.began) / 1000;
  const rate = seconds > 1 ? p.done / seconds : 0;
  const left = rate > 0 ? Math.round((p.total - p.done) / rate) : 0;
  return (
    <div>
      <span role="progressbar" aria-label="Sending" aria-valuenow={Math.round(share * 100)} className="block h-1.5 bg-stone">
        <span className="block h-full bg-copper" style={{ width: `${share * 100}%` }} />
      </span>
      <span className="text-xs">
        {Math.round(share * 100)} %, {size(p.done)} of {size(p.total)}
        {rate > 0 &&
          p.done < p.total &&
          `, ${size(rate)} a second, ${left < 60 ? plural(left, "second") : plural(Math.round(left / 60), "minute")} left`}
      </span>
    </div>
  );
}
