import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useId, useState, type ReactNode } from "react";
import { changesOf } from "../api/changes";
import type { Asset, Schemas } from "../api/client";
import { consoleSeat, useWorkspaces } from "../api/locks";
import { BeginMany } from "../pages/desk/BeginMany";
import type { Here } from "../pages/project/ProjectFrame";
import { Ask, fieldClass } from "../parts/Ask";
import { Button } from "../parts/Button";
import { GoBack } from "../parts/GoBack";
import { remedy, sentence, Trouble } from "../parts/Trouble";
import { plural, size } from "../parts/words";
import {
  askMany,
  checkChanges,
  downloadMany,
  handOff,
  lockMany,
  moving,
  removing,
  renaming,
  takeAwayMany,
  unlockMany,
  type Came,
} from "./many";
import { outcomes } from "./outcomes";

const free = (a: Asset) => !a.lock?.holder;
const mine = (a: Asset, here: Here) => a.lock?.holder === here.me;
const others = (a: Asset, here: Here) => !free(a) && !mine(a, here);
const any = () => true;

type Name = "lock" | "unlock" | "wait" | "ask" | "take" | "back" | "move" | "rename" | "remove";

interface Act {
  word: string;
  title: (n: number) => string;
  /** Those that it can be done with; the others are left out, and it is said how many. */
  fits: (a: Asset, here: Here) => boolean;
  left: string;
  says: string;
}

const acts: Record<Name, Act> = {
  lock: { word: "Lock", title: (n) => `Lock ${plural(n, "asset")}?`, fits: free, left: "somebody has them already", says: "" },
  unlock: {
    word: "Give back",
    title: (n) => `Give ${plural(n, "lock")} back?`,
    fits: mine,
    left: "they are not yours",
    says: "What was changed and not sent stays where it is, and needs the lock again before it can be sent.",
  },
  wait: {
    word: "Wait in line",
    title: (n) => `Wait in line for ${plural(n, "asset")}?`,
    fits: others,
    left: "nobody else has them",
    says: "You are told whenever it is your turn with one of them.",
  },
  ask: {
    word: "Ask",
    title: (n) => `Ask for ${plural(n, "asset")}?`,
    fits: others,
    left: "nobody else has them",
    says: "Whoever holds each is told at once, and gives it or says until when not. You wait in line meanwhile.",
  },
  take: {
    word: "Take away",
    title: (n) => `Take ${plural(n, "lock")} away?`,
    fits: others,
    left: "nobody else has them",
    says: "Who held them is told, with your reason, and it is on record. What they changed and did not send stays on their disk.",
  },
  back: { word: "Go back", title: (n) => `Bring ${plural(n, "asset")} back?`, fits: any, left: "", says: "" },
  move: {
    word: "Move",
    title: (n) => `Move ${plural(n, "asset")}?`,
    fits: any,
    left: "",
    says: "A new handoff, for everyone. Versions, locks and links go with them.",
  },
  rename: {
    word: "Rename",
    title: () => "Rename or move it?",
    fits: any,
    left: "",
    says: "A new handoff, for everyone. Its versions, its lock and links to it go with it.",
  },
  remove: {
    word: "Remove",
    title: (n) => `Remove ${plural(n, "asset")}?`,
    fits: any,
    left: "",
    says: "A new handoff, for everyone. Nothing is deleted: every version stays in the history, and can be brought back.",
  },
};

interface Props {
  here: Here;
  assets: Asset[];
  onNone: () => void;
  /** Another one goes last, where there are more than can be chosen at once. */
  children?: ReactNode;
}

/** Many is what can be done with all that was chosen, always in view while anything is. */
export function Many({ here, assets, onNone, children }: Props) {
  const [doing, setDoing] = useState<Name>();
  if (assets.length === 0) return null;
  const fitting = (name: Name) => assets.some((a) => acts[name].fits(a, here));
  const offered: Name[] = [];
  if (here.maySend) {
    for (const name of ["lock", "unlock", "wait", "ask"] as const) if (fitting(name)) offered.push(name);
    if (here.mayLead && fitting("take")) offered.push("take");
    offered.push("back", "move", "remove");
  }
  return (
    <section
      aria-label="What is chosen"
      className="sticky bottom-0 z-20 mt-3 flex flex-wrap items-center gap-2 border-t-2 border-copper bg-bank px-3 py-2 shadow-2xl"
    >
      <strong role="status" className="mr-2 font-semibold">
        {plural(assets.length, "asset")}, {size(assets.reduce((n, a) => n + a.size, 0))}
      </strong>
      {here.maySend && <BeginMany project={here.key} assets={assets} onDone={onNone} />}
      {offered.map((name) => (
        <Button key={name} onClick={() => setDoing(name)}>
          {acts[name].word}
        </Button>
      ))}
      <Button
        onClick={() =>
          downloadMany(
            here.key,
            assets.map((a) => a.path),
          )
        }
      >
        Download (ZIP)
      </Button>
      <Button kind="quiet" onClick={onNone}>
        Choose nothing
      </Button>
      {children}
      {doing && <Doing here={here} name={doing} assets={assets} onClose={() => setDoing(undefined)} onDone={() => onNone()} />}
    </section>
  );
}

interface DoingProps {
  here: Here;
  name: Name;
  assets: Asset[];
  onClose: () => void;
  /** place is the new path of what was renamed. */
  onDone?: (place?: string) => void;
}

/** Doing shows first what one thing would do to how many, and what stands in the way, and does it: here is the one place for that. */
export function Doing({ here, name, assets, onClose, onDone }: DoingProps) {
  const fits = assets.filter((a) => acts[name].fits(a, here));
  const done = (words: string, place?: string) => {
    outcomes.done(name, words);
    onClose();
    onDone?.(place);
  };
  if (name === "back") return <BackTo here={here} assets={fits} onClose={onClose} />;
  if (name === "move" || name === "rename" || name === "remove") {
    return <Changing here={here} name={name} assets={fits} onClose={onClose} onDone={done} />;
  }
  return <Locking here={here} name={name} assets={fits} left={assets.length - fits.length} onClose={onClose} onDone={done} />;
}

const shown = 8;

function Paths({ assets }: { assets: Asset[] }) {
  return (
    <ul className="max-h-56 overflow-y-auto border-y border-line py-1.5">
      {assets.slice(0, shown).map((a) => (
        <li key={a.path} className="py-0.5 wrap-anywhere">
          <span className="text-ink">{a.path}</span>
          {a.lock?.holder && `, ${a.lock.holder} has it`}
        </li>
      ))}
      {assets.length > shown && <li className="py-0.5">and {(assets.length - shown).toLocaleString("en")} more</li>}
    </ul>
  );
}

function Refused({ refusals }: { refusals: Schemas["Refusal"][] }) {
  return (
    <div role="alert" className="text-rust">
      <ul className="max-h-56 overflow-y-auto">
        {refusals.slice(0, 200).map((r) => (
          <li key={r.path + r.reason} className="wrap-anywhere">
            {sentence(r.message)} <span className="text-peat">{remedy(r) && sentence(remedy(r))}</span>
          </li>
        ))}
        {refusals.length > 200 && <li>and so it is with {(refusals.length - 200).toLocaleString("en")} more</li>}
      </ul>
    </div>
  );
}

const said: Record<string, (n: number) => string> = {
  lock: (n) => `${plural(n, "asset")} ${n === 1 ? "is" : "are"} locked, and yours`,
  unlock: (n) => `${plural(n, "lock")} ${n === 1 ? "is" : "are"} given back`,
  wait: (n) => `You are in line for ${plural(n, "asset")}`,
  ask: (n) => `${plural(n, "holder")} ${n === 1 ? "is" : "are"} asked`,
  take: (n) => `${plural(n, "lock")} ${n === 1 ? "is" : "are"} taken away`,
};

interface LockingProps {
  here: Here;
  name: Name;
  assets: Asset[];
  left: number;
  onClose: () => void;
  onDone: (words: string) => void;
}

function Locking({ here, name, assets, left, onClose, onDone }: LockingProps) {
  const act = acts[name];
  const queries = useQueryClient();
  const folders = useWorkspaces(here.key);
  const [workspace, setWorkspace] = useState(consoleSeat);
  const [reason, setReason] = useState("");
  const needsReason = name === "ask" || name === "take";
  const run = useMutation({
    mutationFn: (): Promise<Came> => {
      switch (name) {
        case "unlock":
          return unlockMany(here.key, assets);
        case "ask":
          return askMany(here.key, here.me, assets, reason);
        case "take":
          return takeAwayMany(here.key, assets, reason);
        default:
          return lockMany(here.key, assets, workspace, name === "wait");
      }
    },
    onSettled: () =>
      changesOf(queries, here.key).add({
        kind: "lock.own",
        subject: { paths: assets.slice(0, 100).map((a) => a.path), count: assets.length },
      }),
    onSuccess: (came) => came.refusals.length === 0 && onDone(said[name]!(came.done)),
  });
  const came = run.data;
  return (
    <Ask
      open
      title={act.title(assets.length)}
      action={came ? "Done" : act.word}
      busy={run.isPending}
      disabled={needsReason && !reason.trim()}
      onAct={() => (came ? onDone(said[name]!(came.done)) : run.mutate())}
      onClose={onClose}
    >
      {came ? (
        <>
          <p>
            {sentence(said[name]!(came.done))} With {plural(came.refusals.length, "other")} it was refused:
          </p>
          <Refused refusals={came.refusals} />
        </>
      ) : (
        <>
          <Paths assets={assets} />
          {left > 0 && (
            <p>
              {plural(left, "other")} that you chose {left === 1 ? "is" : "are"} left out: {act.left}.
            </p>
          )}
          {act.says && <p>{act.says}</p>}
          {(name === "lock" || name === "wait") && (folders.data?.length ?? 0) > 0 && (
            <label className="block">
              <span className="mb-1 block text-ink">The locks are for</span>
              <select className={fieldClass} value={workspace} onChange={(e) => setWorkspace(e.target.value)}>
                <option value={consoleSeat}>this page: I drop the new files here</option>
                {folders.data?.map((w) => (
                  <option key={w.id} value={w.id}>
                    {w.name}
                  </option>
                ))}
              </select>
            </label>
          )}
          {needsReason && (
            <label className="block">
              <span className="mb-1 block text-ink">{name === "ask" ? "What you need them for" : "Why"}</span>
              <input className={fieldClass} value={reason} onChange={(e) => setReason(e.target.value)} maxLength={500} />
            </label>
          )}
        </>
      )}
      <Trouble error={run.error} />
    </Ask>
  );
}

interface ChangingProps {
  here: Here;
  name: "move" | "rename" | "remove";
  assets: Asset[];
  onClose: () => void;
  onDone: (words: string, place?: string) => void;
}

const changed: Record<ChangingProps["name"], (n: number, h: number) => string> = {
  move: (n, h) => `${plural(n, "asset")} moved, with h${h}`,
  rename: (_, h) => `Renamed, with h${h}`,
  remove: (n, h) => `${plural(n, "asset")} removed, with h${h}`,
};

/** Changing moves, renames or removes assets, as a handoff: the service says beforehand what stands in the way. */
function Changing({ here, name, assets, onClose, onDone }: ChangingProps) {
  const first = assets[0]!.path;
  const queries = useQueryClient();
  const [to, setTo] = useState(name === "rename" ? first : first.slice(0, Math.max(0, first.lastIndexOf("/"))));
  const [note, setNote] = useState("");
  const describedBy = useId();
  const place = to.trim().replace(/^\/+|\/+$/g, "");
  const changes = name === "remove" ? removing(assets) : name === "move" ? moving(assets, place) : renaming(assets[0]!, place);
  const real = changes.filter((c) => c.gone || c.path !== c.moved_from);
  const check = useQuery({
    queryKey: ["project", here.key, "check", name, place, assets.map((a) => a.path + a.newest)],
    queryFn: () => checkChanges(here.key, real),
    enabled: real.length > 0,
    gcTime: 0,
    retry: false,
  });
  const run = useMutation({
    mutationFn: () => handOff(here.key, real, note),
    onSuccess: async (receipt) => {
      await changesOf(queries, here.key).all();
      onDone(changed[name](real.length, receipt.handoff.number), name === "rename" ? place : undefined);
    },
  });
  const refusals = check.data ?? [];
  return (
    <Ask
      open
      title={acts[name].title(assets.length)}
      action={acts[name].word}
      busy={run.isPending}
      disabled={!note.trim() || real.length === 0 || !check.data || refusals.length > 0}
      onAct={() => run.mutate()}
      onClose={onClose}
    >
      <Paths assets={assets} />
      <p id={describedBy}>{acts[name].says}</p>
      {name !== "remove" && (
        <label className="block">
          <span className="mb-1 block text-ink">{name === "move" ? "Into the folder" : "Its path"}</span>
          <input
            className={fieldClass}
            value={to}
            onChange={(e) => setTo(e.target.value)}
            placeholder={name === "move" ? "the first folder" : ""}
            aria-describedby={describedBy}
          />
        </label>
      )}
      {refusals.length > 0 && (
        <>
          <p className="text-ink">This stands in the way:</p>
          <Refused refusals={refusals} />
        </>
      )}
      <label className="block">
        <span className="mb-1 block text-ink">Why</span>
        <input className={fieldClass} value={note} onChange={(e) => setNote(e.target.value)} />
      </label>
      <Trouble error={check.error ?? run.error} />
    </Ask>
  );
}

/** BackTo asks to which state, and shows what going back there would do. */
function BackTo({ here, assets, onClose }: { here: Here; assets: Asset[]; onClose: () => void }) {
  const [typed, setTyped] = useState("");
  const [to, setTo] = useState("");
  if (to) {
    return (
      <GoBack
        here={here}
        title={`Bring ${plural(assets.length, "asset")} back to ${to}?`}
        back={{ paths: assets.map((a) => a.path), to }}
        onClose={onClose}
      />
    );
  }
  return (
    <Ask
      open
      title={acts.back.title(assets.length)}
      action="Look at it"
      disabled={!typed.trim()}
      onAct={() => setTo(typed.trim())}
      onClose={onClose}
    >
      <Paths assets={assets} />
      <label className="block">
        <span className="mb-1 block text-ink">To which state</span>
        <input className={fieldClass} value={typed} onChange={(e) => setTyped(e.target.value)} placeholder="h40, or a milestone" />
      </label>
    </Ask>
  );
}
