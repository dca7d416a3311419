import { useState } from "react";
import { Link } from "react-router";
import type { Workspace } from "../../api/desk";
import type { Asset, Methods } from "../../api/desk.gen";
import { Ask, fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { plural, size, When } from "../../parts/words";
import { Going } from "./Going";
import { doing, mine } from "./groups";
import { BeforeAfter } from "./Pictures";
import { useWork } from "./useWork";
import { Refused } from "./WaysOut";

/** So many rows stand on the page at first. */
const most = 60;

/** ToSend is what was changed here and not sent, new files first, and the form that hands it off. */
export function ToSend({ w, changed, fresh }: { w: Workspace; changed: Asset[]; fresh: Asset[] }) {
  // What is deleted here goes along only where one says so.
  const [turned, setTurned] = useState<ReadonlySet<string>>(new Set());
  const all = [...fresh, ...changed];
  const goes = (a: Asset) => (a.state === "gone") === turned.has(a.path) && !a.sending_percent;
  const chosen = all.filter(goes);
  const turn = (path: string) => {
    const next = new Set(turned);
    if (!next.delete(path)) next.add(path);
    setTurned(next);
  };
  const jobs = w.sending ?? [];
  if (all.length === 0 && jobs.length === 0) return null;
  const rows = (list: Asset[]) => <Rows w={w} list={list} goes={goes} onTurn={turn} />;
  return (
    <section aria-label="To send" className="space-y-6">
      {jobs.map((j) => (
        <Going key={j.id} w={w} job={j} />
      ))}
      {fresh.length > 0 && (
        <div>
          <h3 className="mb-1 text-lg text-copper">
            New here <span className="font-normal text-peat">{plural(fresh.length, "file")}, that nobody else has yet</span>
          </h3>
          {rows(fresh)}
        </div>
      )}
      {changed.length > 0 && (
        <div>
          <h3 className="mb-1 text-lg">
            Changed here <span className="font-normal text-peat">{plural(changed.length, "asset")}</span>
          </h3>
          {rows(changed)}
        </div>
      )}
      {all.length > 0 && <Send w={w} chosen={chosen} all={all.length} onSent={() => setTurned(new Set())} />}
    </section>
  );
}

function Rows({ w, list, goes, onTurn }: { w: Workspace; list: Asset[]; goes: (a: Asset) => boolean; onTurn: (path: string) => void }) {
  const [shown, setShown] = useState(most);
  return (
    <>
      <ul className="divide-y divide-line">
        {list.slice(0, shown).map((a) => (
          <Row key={a.path} w={w} asset={a} goes={goes(a)} onTurn={() => onTurn(a.path)} />
        ))}
      </ul>
      {list.length > shown && (
        <p className="mt-2">
          <Button onClick={() => setShown(shown + 500)}>Show {(list.length - shown).toLocaleString("en")} more</Button>
        </p>
      )}
    </>
  );
}

function Row({ w, asset: a, goes, onTurn }: { w: Workspace; asset: Asset; goes: boolean; onTurn: () => void }) {
  const discard = useWork("discard");
  const open = useWork("open");
  const [asking, setAsking] = useState(false);
  const held = !mine(w, a) && a.lock;
  return (
    <li className="py-2.5">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <input
          type="checkbox"
          className="size-4 accent-copper"
          checked={goes}
          disabled={!!a.sending_percent}
          onChange={onTurn}
          aria-label={`Send ${a.path}`}
        />
        <BeforeAfter w={w} asset={a} />
        <span className="min-w-48 flex-1">
          <span className="font-medium break-all">{a.path}</span>
          <span className="block text-peat">
            {doing(a)}
            {a.changed && (
              <>
                {" "}
                <When at={a.changed} />
              </>
            )}
            , {size(a.size)}
            {a.version ? `, from v${a.version}` : ""}
            {a.sending_percent ? <span className="text-ice">; on its way, {a.sending_percent}%</span> : null}
            {held && <span className="text-rust">; {a.lock!.holder} holds it</span>}
          </span>
        </span>
        {a.state !== "gone" && (
          <Button
            kind="quiet"
            disabled={open.isPending}
            onClick={() => open.mutate({ workspace: w.workspace, path: a.path })}
            aria-label={`Open ${a.path}`}
          >
            Open
          </Button>
        )}
        {a.state === "edited" && (
          <Link to={`/desk/changed?${new URLSearchParams({ workspace: w.workspace, path: a.path })}`} className="text-sm">
            What changed
          </Link>
        )}
        <Button
          kind="quiet"
          disabled={discard.isPending || !!a.sending_percent}
          onClick={() => setAsking(true)}
          aria-label={`${a.state === "gone" ? "Bring back" : "Put away"} ${a.path}`}
        >
          {a.state === "gone" ? "Bring back" : "Put away"}
        </Button>
      </div>
      <Refused w={w} error={discard.error ?? open.error} />
      <Ask
        open={asking}
        title={a.state === "gone" ? `Bring back ${a.path}?` : `Put your ${a.path} away?`}
        action={a.state === "gone" ? "Bring back" : "Put away"}
        onAct={() => {
          setAsking(false);
          discard.mutate({ workspace: w.workspace, paths: [a.path] });
        }}
        onClose={() => setAsking(false)}
      >
        <p>
          {a.state === "gone"
            ? "The newest version comes back to this machine."
            : a.state === "new"
              ? "The file leaves the folder. For 30 days it can be brought back, under Put away."
              : "The newest version takes its place. For 30 days yours can be brought back, under Put away."}
        </p>
      </Ask>
    </li>
  );
}

type SendParams = Methods["send"]["takes"];

function Send({ w, chosen, all, onSent }: { w: Workspace; chosen: Asset[]; all: number; onSent: () => void }) {
  const [note, setNote] = useState("");
  const [tasks, setTasks] = useState("");
  const [stage, setStage] = useState("");
  const [keep, setKeep] = useState(false);
  const [sets, setSets] = useState(false);
  const send = useWork("send", (answer) => {
    if (answer.apart.length > 0) return;
    setNote("");
    onSent();
  });
  const apart = send.data?.apart ?? [];
  const go = (more: Partial<SendParams> = {}) =>
    send.mutate({
      workspace: w.workspace,
      note,
      tasks: tasks.split(/[\s,]+/).filter(Boolean),
      stage: stage.trim(),
      keep_locks: keep,
      set: sets,
      with_gone: chosen.some((a) => a.state === "gone"),
      paths: chosen.map((a) => a.path),
      ...more,
    });
  return (
    <form
      className="rounded-lg border border-line bg-bank p-5"
      aria-label={`Send from ${w.project}`}
      onSubmit={(e) => {
        e.preventDefault();
        if (note.trim() && chosen.length > 0 && !send.isPending) go();
      }}
    >
      <label className="block">
        <span className="mb-1 block font-medium">What was done, and why</span>
        <textarea
          className={`${fieldClass} min-h-16`}
          name="note"
          value={note}
          onChange={(e) => setNote(e.target.value)}
          onKeyDown={(e) => {
            if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) e.currentTarget.form?.requestSubmit();
          }}
        />
      </label>
      <div className="mt-3 flex flex-wrap gap-3">
        <Field label="Tasks" quiet className="min-w-40 flex-1" value={tasks} onType={setTasks} />
        <Field label="Stage" quiet className="min-w-40 flex-1" value={stage} maxLength={40} onType={setStage} />
      </div>
      <div className="mt-3 flex flex-wrap items-center justify-between gap-3">
        <span className="flex flex-wrap gap-x-5 gap-y-1 text-peat">
          <label className="flex items-center gap-2">
            <input type="checkbox" className="size-4 accent-copper" checked={keep} onChange={(e) => setKeep(e.target.checked)} /> Keep my
            locks
          </label>
          {chosen.length < all && (
            <label className="flex items-center gap-2">
              <input type="checkbox" className="size-4 accent-copper" checked={sets} onChange={(e) => setSets(e.target.checked)} /> With the
              rest of each set
            </label>
          )}
        </span>
        <Button kind="act" type="submit" disabled={!note.trim() || chosen.length === 0 || send.isPending}>
          {chosen.length === all
            ? `Send ${plural(chosen.length, "asset")}`
            : `Send ${chosen.length.toLocaleString("en")} of ${all.toLocaleString("en")}`}
        </Button>
      </div>
      {send.isPending && (
        <p role="status" className="mt-2 text-peat">
          Setting copies aside …
        </p>
      )}
      <Refused w={w} error={send.error} older={() => go({ older: true })} />
      <Ask
        open={apart.length > 0}
        title="These belong to what you send"
        action="Take them along"
        onAct={() => go({ paths: [...chosen.map((a) => a.path), ...apart.map((r) => r.to)] })}
        onClose={() => send.reset()}
      >
        <p>They have changed too, and files that you send name them:</p>
        <ul>
          {apart.slice(0, 12).map((r) => (
            <li key={r.from + r.to} className="text-ink wrap-anywhere">
              {r.to}, <span className="text-peat">named by {r.from}</span>
            </li>
          ))}
        </ul>
        <Button onClick={() => go({ without: true })}>Send without them</Button>
      </Ask>
    </form>
  );
}
