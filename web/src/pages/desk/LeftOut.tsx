import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { call, type Workspace } from "../../api/desk";
import type { LeftOut as Left, Origin } from "../../api/desk.gen";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { Trouble } from "../../parts/Trouble";
import { plural, size } from "../../parts/words";
import { useWork } from "./useWork";

/** by says which line leaves something out. */
const by = (o: Origin) => (o.pattern ? `“${o.pattern}”${o.line ? ` in line ${o.line} of ${o.in}` : `, ${o.in}`}` : o.in);

const most = 200;

/** LeftOut is what the rules leave out in a workspace, why, and the way to have one of them tracked after all. */
export function LeftOut({ w }: { w: Workspace }) {
  const [open, setOpen] = useState(false);
  if (w.left_out === 0) return null;
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button kind="quiet" className="-ml-2.5">
          {plural(w.left_out, "file or folder here is", "files and folders here are")} left out
        </Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-deep/75" />
        <Dialog.Content className="fixed top-1/2 left-1/2 z-30 max-h-[calc(100dvh-2rem)] w-[min(44rem,calc(100vw-2rem))] -translate-1/2 overflow-y-auto rounded-lg border border-line bg-bank p-5 shadow-2xl">
          <Dialog.Title className="text-lg font-semibold">Left out in {w.project}</Dialog.Title>
          <Dialog.Description className="mt-1 mb-3 text-peat">
            The rules of the project keep these on this machine: nobody else gets them. Leads change the rules; who is none can ask for one
            of them.
          </Dialog.Description>
          {open && <List w={w} />}
          <Dialog.Close asChild>
            <Button className="mt-4">Close</Button>
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function List({ w }: { w: Workspace }) {
  const [search, setSearch] = useState("");
  const [chosen, setChosen] = useState("");
  const found = useQuery({
    queryKey: ["desk", "left-out", w.workspace],
    queryFn: () => call("left_out", { workspace: w.workspace }),
    staleTime: 0,
    gcTime: 0,
  });
  const list = (found.data?.left_out ?? []).filter((l) => l.state === "ignored");
  const fits = list.filter((l) => l.path.toLowerCase().includes(search.trim().toLowerCase()));
  return (
    <>
      <Trouble error={found.error} />
      {list.length > 12 && <Field label="Find among them" quiet type="search" value={search} onType={setSearch} className="mb-2 block" />}
      <ul className="divide-y divide-line">
        {fits.slice(0, most).map((l) => (
          <One key={l.path} w={w} left={l} open={chosen === l.path} onOpen={() => setChosen(chosen === l.path ? "" : l.path)} />
        ))}
      </ul>
      {fits.length > most && <p className="mt-1 text-peat">and {(fits.length - most).toLocaleString("en")} more</p>}
      {found.data && fits.length === 0 && <p className="text-peat">Nothing fits.</p>}
    </>
  );
}

function One({ w, left: l, open, onOpen }: { w: Workspace; left: Left; open: boolean; onOpen: () => void }) {
  const [reason, setReason] = useState("");
  const queries = useQueryClient();
  const include = useWork("include", (answer) => {
    if (answer.included.length > 0) void queries.invalidateQueries({ queryKey: ["desk", "left-out", w.workspace] });
  });
  const asked = (include.data?.asked.length ?? 0) > 0;
  return (
    <li className="py-2">
      <div className="flex flex-wrap items-center gap-x-3">
        <span className="min-w-48 flex-1">
          <span className="break-all">{l.path}</span>
          <span className="block text-peat">
            by {by(l.by)}
            {l.size ? `, ${size(l.size)}` : ""}
          </span>
        </span>
        {asked ? (
          <span role="status" className="text-ice">
            The leads are asked.
          </span>
        ) : (
          <Button aria-expanded={open} aria-label={`Have ${l.path} tracked`} onClick={onOpen}>
            Have it tracked
          </Button>
        )}
      </div>
      {open && !asked && (
        <form
          className="mt-2 flex flex-wrap items-end gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            if (!include.isPending) include.mutate({ workspace: w.workspace, paths: [l.path], reason });
          }}
        >
          <Field label="Why it is needed" quiet value={reason} onType={setReason} maxLength={500} className="min-w-56 flex-1" />
          <Button kind="act" type="submit" disabled={include.isPending}>
            Go on
          </Button>
          <span className="w-full text-peat">
            A lead makes an exception in the rules, which goes along with the next send; anybody else asks the leads.
          </span>
        </form>
      )}
      <Trouble error={include.error} />
    </li>
  );
}
