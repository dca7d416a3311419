import { DropdownMenu } from "radix-ui";
import { useState, type ReactNode } from "react";
import type { Asset, Lock, Schemas } from "../api/client";
import { consoleSeat, useLockActions, useWorkspaces } from "../api/locks";
import type { Here } from "../pages/project/ProjectFrame";
import { Ask, fieldClass } from "./Ask";
import { Button } from "./Button";
import { Kept } from "./Kept";
import { Trouble } from "./Trouble";

const item = "cursor-default rounded-md px-3 py-1.5 outline-none data-highlighted:bg-stone";

/** ForWhom is a button that asks for which of one's workspaces something is. */
function ForWhom({
  here,
  title,
  label,
  busy,
  onChoose,
}: {
  here: Here;
  title: ReactNode;
  label: string;
  busy: boolean;
  onChoose: (workspace: string) => void;
}) {
  const folders = useWorkspaces(here.key);
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <Button disabled={busy} aria-label={label}>
          {title}
        </Button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" sideOffset={4} className="z-20 rounded-lg border border-line bg-bank p-1 text-sm shadow-xl">
          <DropdownMenu.Label className="px-3 py-1 text-xs text-peat">The lock is for</DropdownMenu.Label>
          <DropdownMenu.Item className={item} onSelect={() => onChoose(consoleSeat)}>
            this page: I drop the new file here
          </DropdownMenu.Item>
          {folders.data?.map((w) => (
            <DropdownMenu.Item key={w.id} className={item} onSelect={() => onChoose(w.id)}>
              {w.name}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** TakeLock locks an asset, for the page or for one of one's folders. */
export function TakeLock({ here, asset }: { here: Here; asset: Pick<Asset, "path" | "newest"> }) {
  const { take } = useLockActions(here.key);
  return (
    <ForWhom
      here={here}
      title="Lock"
      label={`Lock ${asset.path}`}
      busy={take.isPending}
      onChoose={(workspace) => take.mutate({ asset, workspace })}
    />
  );
}

/** TakeOffer takes a lock that is offered, for the workspace that waited. */
export function TakeOffer({ here, lock }: { here: Here; lock: Lock }) {
  const { take, leave } = useLockActions(here.key);
  const turn = lock.waitlist.find((w) => w.handle === here.me);
  if (!turn) return null;
  return (
    <span className="flex gap-2">
      <Button
        kind="act"
        disabled={take.isPending}
        aria-label={`Take it: the lock of ${lock.path}`}
        onClick={() => take.mutate({ asset: { path: lock.path, newest: 0 }, workspace: turn.workspace_id })}
      >
        Take it
      </Button>
      <Button
        disabled={leave.isPending}
        aria-label={`Not any more: leave the line for ${lock.path}`}
        onClick={() => leave.mutate(lock.path)}
      >
        Not any more
      </Button>
    </span>
  );
}

/** WaitOrAsk is what one may do about a lock that somebody else has: wait in line, leave it, ask them to let go. */
export function WaitOrAsk({ here, lock }: { here: Here; lock: Lock }) {
  const { take, leave } = useLockActions(here.key);
  const [asking, setAsking] = useState(false);
  const turn = lock.waitlist.find((w) => w.handle === here.me);
  const asked = lock.asks?.some((k) => k.person === here.me && !k.answer);
  return (
    <>
      {turn ? (
        <Button disabled={leave.isPending} aria-label={`Leave the line for ${lock.path}`} onClick={() => leave.mutate(lock.path)}>
          Leave the line
        </Button>
      ) : (
        <ForWhom
          here={here}
          title="Wait in line"
          label={`Wait in line for ${lock.path}`}
          busy={take.isPending}
          onChoose={(workspace) => take.mutate({ asset: { path: lock.path, newest: 0 }, workspace, wait: true })}
        />
      )}
      {lock.holder && !asked && (
        <Button onClick={() => setAsking(true)} aria-label={`Ask ${lock.holder} to let go of ${lock.path}`}>
          Ask {lock.holder}
        </Button>
      )}
      <AskToLetGo here={here} lock={lock} workspace={turn?.workspace_id ?? consoleSeat} open={asking} onClose={() => setAsking(false)} />
    </>
  );
}

interface Asking {
  here: Here;
  lock: Lock;
  workspace: string;
  open: boolean;
  onClose: () => void;
  onDone?: () => void;
}

/** AskToLetGo asks the holder of a lock to let go, with a reason. */
export function AskToLetGo({ here, lock, workspace, open, onClose, onDone }: Asking) {
  const { request } = useLockActions(here.key);
  const [reason, setReason] = useState("");
  return (
    <Ask
      open={open}
      title={`Ask ${lock.holder} to let go?`}
      action="Ask"
      busy={request.isPending}
      disabled={!reason.trim()}
      onClose={onClose}
      onAct={() =>
        request.mutate(
          { path: lock.path, workspace, reason },
          {
            onSuccess: () => {
              onClose();
              onDone?.();
            },
          },
        )
      }
    >
      <p>{lock.holder} is told at once, and gives it or says until when not. You wait in line meanwhile.</p>
      <label className="block">
        <span className="mb-1 block text-ink">What you need it for</span>
        <input className={fieldClass} value={reason} onChange={(e) => setReason(e.target.value)} maxLength={500} />
      </label>
      <Trouble error={request.error} />
    </Ask>
  );
}

/** AnswerAsk gives a lock, or says not yet: one click each, but for a word and a time that may go with it. */
export function AnswerAsk({ here, lock, ask }: { here: Here; lock: Lock; ask: Schemas["Ask"] }) {
  const { answer } = useLockActions(here.key);
  const [more, setMore] = useState<"give" | "not-yet">();
  const [word, setWord] = useState("");
  const [hours, setHours] = useState("");
  const done = { onSuccess: () => setMore(undefined) };
  const give = () => answer.mutate({ path: lock.path, give: true, to: ask.person }, done);
  const until = Number(hours) > 0 ? { until: new Date(Date.now() + Number(hours) * 3_600_000).toISOString() } : {};
  return (
    <span className="flex flex-wrap gap-2">
      <Button
        kind="act"
        disabled={answer.isPending}
        aria-label={`Give it: ${lock.path} to ${ask.person}`}
        onClick={() => (lock.unsent ? setMore("give") : give())}
      >
        Give it
      </Button>
      <Button
        disabled={answer.isPending}
        aria-label={`Not yet, to ${ask.person} about ${lock.path}`}
        onClick={() => answer.mutate({ path: lock.path, give: false, to: ask.person })}
      >
        Not yet
      </Button>
      <Button kind="quiet" onClick={() => setMore("not-yet")} aria-label={`Not yet, because …: to ${ask.person} about ${lock.path}`}>
        Not yet, because …
      </Button>
      <Ask
        open={more === "give"}
        title={`Give ${lock.path} away with changes that were not sent?`}
        action="Give it"
        busy={answer.isPending}
        onAct={give}
        onClose={() => setMore(undefined)}
      >
        <p>
          There are changes in {lock.workspace} that were not sent. They stay on that disk, but can't be sent over what {ask.person} makes
          of it. Sending them there first gives the lock back by itself.
        </p>
        <Trouble error={answer.error} />
      </Ask>
      <Ask
        open={more === "not-yet"}
        title="Not yet"
        action="Tell them"
        busy={answer.isPending}
        onAct={() => answer.mutate({ path: lock.path, give: false, to: ask.person, word, ...until }, done)}
        onClose={() => setMore(undefined)}
      >
        <label className="block">
          <span className="mb-1 block text-ink">Why</span>
          <input className={fieldClass} value={word} onChange={(e) => setWord(e.target.value)} maxLength={500} />
        </label>
        <label className="block">
          <span className="mb-1 block text-ink">For about how many hours more</span>
          <input
            className={fieldClass}
            value={hours}
            inputMode="decimal"
            onChange={(e) => setHours(e.target.value.replace(/[^0-9.]/g, ""))}
          />
        </label>
        <Trouble error={answer.error} />
      </Ask>
    </span>
  );
}

/** ReleaseLock gives a lock of one's own back, or, for a lead, takes somebody's away after asking for a reason. */
export function ReleaseLock({ here, lock }: { here: Here; lock: Lock }) {
  const { release, override } = useLockActions(here.key);
  const [asking, setAsking] = useState(false);
  const [reason, setReason] = useState("");
  if (lock.holder === here.me) {
    return (
      <Button disabled={release.isPending} onClick={() => release.mutate(lock)} aria-label={`Unlock ${lock.path}`}>
        Unlock
      </Button>
    );
  }
  if (!here.mayLead || !lock.holder) return null;
  return (
    <>
      <Button onClick={() => setAsking(true)} aria-label={`Take away the lock of ${lock.path}`}>
        Take away
      </Button>
      <Ask
        open={asking}
        title={`Take the lock away from ${lock.holder}?`}
        action="Take it away"
        busy={override.isPending}
        disabled={!reason.trim()}
        onClose={() => setAsking(false)}
        onAct={() => override.mutate({ lock, reason }, { onSuccess: () => setAsking(false) })}
      >
        <p>
          {lock.path} {lock.waitlist.length > 0 ? `is offered to ${lock.waitlist[0]!.handle}` : "becomes free"}. {lock.holder} is told. What{" "}
          {lock.holder} has not sent
          {lock.unsent ? " (there is something)" : ""} stays on their disk, and can be sent as a new file beside the asset, but no longer
          over what comes after. The reason is recorded with your name.
        </p>
        <label className="block">
          <span className="mb-1 block text-ink">Reason</span>
          <input className={fieldClass} value={reason} onChange={(e) => setReason(e.target.value)} maxLength={500} />
        </label>
        <Trouble error={override.error} />
      </Ask>
    </>
  );
}

interface LockButtonsProps {
  here: Here;
  asset: Pick<Asset, "path" | "newest" | "gone">;
  lock: Lock | undefined;
  /** For a row: without what one does about a lock that somebody else has, but for taking it away. */
  brief?: boolean;
}

/** LockButtons are what one may do about the lock of an asset. They keep the keyboard's place when one takes another's. */
export function LockButtons({ here, asset, lock, brief = false }: LockButtonsProps) {
  const offered = lock?.waitlist[0]?.offered_until ? lock.waitlist[0].handle : undefined;
  const mine = lock?.holder === here.me;
  return (
    <Kept className="flex flex-wrap justify-end gap-2">
      {lock && offered === here.me ? (
        <TakeOffer here={here} lock={lock} />
      ) : (
        <>
          {here.maySend && !asset.gone && !lock?.holder && !offered && <TakeLock here={here} asset={asset} />}
          {!brief && here.maySend && lock && !mine && (lock.holder || offered) && <WaitOrAsk here={here} lock={lock} />}
          {!brief &&
            mine &&
            (lock.asks ?? []).filter((k) => !k.answer).map((k) => <AnswerAsk key={k.person} here={here} lock={lock} ask={k} />)}
          {lock && <ReleaseLock here={here} lock={lock} />}
        </>
      )}
    </Kept>
  );
}
