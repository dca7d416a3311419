import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { api, ask } from "../../api/client";
import type { Workspace } from "../../api/desk";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";
import { plural, size } from "../../parts/words";
import { hasHere } from "./groups";
import { Far } from "./Newer";
import { useWork } from "./useWork";
import { Refused } from "./WaysOut";

/** FoldersHere is which folders of the project are on this machine, as a tree with what each weighs. */
export function FoldersHere({ w }: { w: Workspace }) {
  const [open, setOpen] = useState(false);
  const set = useWork("set_scope");
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="rounded-md border border-line px-2 py-0.5 text-sm text-peat hover:border-copper hover:text-ink">
        {w.scope.length === 0 ? "all folders" : "some folders"}
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-deep/75" />
        <Dialog.Content className="fixed top-1/2 left-1/2 z-30 max-h-[calc(100dvh-2rem)] w-[min(34rem,calc(100vw-2rem))] -translate-1/2 overflow-y-auto rounded-lg border border-line bg-bank p-5 shadow-2xl">
          <Dialog.Title className="text-lg font-semibold">Which folders are here</Dialog.Title>
          <Dialog.Description className="mt-1 mb-3 text-peat">
            What is taken out leaves this machine; the service keeps it. Nothing that was not sent is taken out.
          </Dialog.Description>
          <Branch
            w={w}
            folder=""
            busy={set.isPending}
            onSet={(folder, on) => set.mutate({ workspace: w.workspace, [on ? "add" : "remove"]: [folder] })}
          />
          {set.isPending && <Far progress={set.progress} />}
          <Refused w={w} error={set.error} />
          <Dialog.Close asChild>
            <Button className="mt-4">Close</Button>
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Branch({ w, folder, busy, onSet }: { w: Workspace; folder: string; busy: boolean; onSet: (folder: string, on: boolean) => void }) {
  const [open, setOpen] = useState<ReadonlySet<string>>(new Set());
  const found = useQuery({
    queryKey: ["project", w.project, "folder", folder, "weights"],
    queryFn: () =>
      ask(api.GET("/projects/{project}/folder", { params: { path: { project: w.project }, query: { path: folder, limit: 1 } } })),
  });
  const list = found.data?.folders ?? [];
  const turn = (name: string) => {
    const next = new Set(open);
    if (!next.delete(name)) next.add(name);
    setOpen(next);
  };
  return (
    <>
      <Trouble error={found.error} />
      <ul className={folder ? "ml-6" : ""}>
        {list.map((f) => {
          const path = folder ? `${folder}/${f.name}` : f.name;
          const here = hasHere(w.scope, path);
          return (
            <li key={path} className="py-0.5">
              <div className="flex items-center gap-2">
                <label className="flex min-w-0 flex-1 items-center gap-2">
                  <input
                    type="checkbox"
                    className="size-4 accent-copper"
                    checked={here}
                    disabled={busy}
                    onChange={() => onSet(path, !here)}
                  />
                  <span className="wrap-anywhere">{f.name}</span>
                  <span className="text-peat">
                    {plural(f.assets, "asset")}, {size(f.size)}
                  </span>
                </label>
                <Button kind="quiet" aria-expanded={open.has(f.name)} aria-label={`Folders in ${path}`} onClick={() => turn(f.name)}>
                  {open.has(f.name) ? "Less" : "More"}
                </Button>
              </div>
              {open.has(f.name) && <Branch w={w} folder={path} busy={busy} onSet={onSet} />}
            </li>
          );
        })}
        {folder && found.data && list.length === 0 && <li className="text-peat">No folders in it.</li>}
      </ul>
    </>
  );
}
