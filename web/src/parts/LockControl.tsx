import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import type { Asset, Lock } from "../api/client";
import { consoleSeat, useLockActions, useWorkspaces } from "../api/locks";
import type { Here } from "../pages/project/ProjectFrame";
import { Ask, fieldClass } from "./Ask";
import { Button } from "./Button";
import { Trouble } from "./Trouble";

const item = "cursor-default rounded-md px-3 py-1.5 outline-none data-highlighted:bg-stone";

/** TakeLock locks an asset, for the page or for one of one's folders. */
export function TakeLock({ here, asset }: { here: Here; asset: Asset }) {
  const { take } = useLockActions(here.key);
  const folders = useWorkspaces(here.key);
  return (
    <>
      <DropdownMenu.Root>
        <DropdownMenu.Trigger asChild>
          <Button disabled={take.isPending} aria-label={`Lock ${asset.path}`}>Lock</Button>
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content align="end" sideOffset={4} className="z-20 rounded-lg border border-line bg-bank p-1 text-sm shadow-xl">
            <DropdownMenu.Label className="px-3 py-1 text-xs text-peat">The lock is for</DropdownMenu.Label>
            <DropdownMenu.Item className={item} onSelect={() => take.mutate({ asset, workspace: consoleSeat })}>this page: I drop the new file here</DropdownMenu.Item>
            {folders.data?.map((w) => (
              <DropdownMenu.Item key={w.id} className={item} onSelect={() => take.mutate({ asset, workspace: w.id })}>{w.name}</DropdownMenu.Item>
            ))}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      <Trouble error={take.error} onClose={take.reset} />
    </>
  );
}

/** ReleaseLock gives a lock of one's own back, or, for a lead, takes somebody's away after asking for a reason. */
export function ReleaseLock({ here, lock }: { here: Here; lock: Lock }) {
  const { release, override } = useLockActions(here.key);
  const [asking, setAsking] = useState(false);
  const [reason, setReason] = useState("");
  if (lock.holder === here.me) {
    return (
      <>
        <Button disabled={release.isPending} onClick={() => release.mutate(lock)} aria-label={`Unlock ${lock.path}`}>Unlock</Button>
        <Trouble error={release.error} onClose={release.reset} />
      </>
    );
  }
  if (!here.mayLead) return null;
  return (
    <>
      <Button onClick={() => setAsking(true)} aria-label={`Take away the lock of ${lock.path}`}>Take away</Button>
      <Ask open={asking} title={`Take the lock away from ${lock.holder}?`} action="Take it away" busy={override.isPending} disabled={!reason.trim()}
        onClose={() => setAsking(false)} onAct={() => override.mutate({ lock, reason }, { onSuccess: () => setAsking(false) })}>
        <p>
          {lock.path} becomes free. What {lock.holder} has not sent stays on their disk, but can no longer be sent over what comes after. The reason is
          recorded with your name.
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
