import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import type { Workspace } from "../../api/desk";
import { useBranches } from "../branches/useBranches";
import { Far } from "./Newer";
import { useWork } from "./useWork";
import { Refused } from "./WaysOut";

/** OnBranch says on which branch a workspace is, and brings it over to another one. */
export function OnBranch({ w }: { w: Workspace }) {
  const [open, setOpen] = useState(false);
  const branches = useBranches(w.project, open);
  const go = useWork("switch");
  return (
    <>
      <DropdownMenu.Root open={open} onOpenChange={setOpen}>
        <DropdownMenu.Trigger
          aria-label={`On ${w.branch || "main"}; bring this folder over to another branch`}
          className="rounded-md border border-line px-2 py-0.5 text-sm text-peat hover:border-copper hover:text-ink"
        >
          on {w.branch || "main"}
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content
            align="start"
            sideOffset={6}
            className="z-20 max-h-96 min-w-44 overflow-y-auto rounded-lg border border-line bg-bank p-1 text-sm shadow-xl"
          >
            <DropdownMenu.Label className="px-3 py-1 text-xs text-peat">Bring this folder over to</DropdownMenu.Label>
            {(branches.data?.branches ?? [])
              .filter((b) => b.state !== "closed" && b.name !== w.branch)
              .map((b) => (
                <DropdownMenu.Item
                  key={b.name}
                  className="cursor-default rounded-md px-3 py-1.5 outline-none data-highlighted:bg-stone"
                  onSelect={() => go.mutate({ workspace: w.workspace, branch: b.name })}
                >
                  {b.name}
                </DropdownMenu.Item>
              ))}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      {go.isPending && (
        <div className="w-full">
          <Far progress={go.progress} />
        </div>
      )}
      {go.error && (
        <div className="w-full">
          <Refused w={w} error={go.error} />
        </div>
      )}
    </>
  );
}
