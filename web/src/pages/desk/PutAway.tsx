import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Workspace } from "../../api/desk";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";
import { size, When } from "../../parts/words";
import { useWork } from "./useWork";

/** PutAway is what was put away here, to be brought back. */
export function PutAway({ w }: { w: Workspace }) {
  const [open, setOpen] = useState(false);
  const queries = useQueryClient();
  const key = ["desk", "put-away", w.workspace];
  const list = useQuery({ queryKey: key, queryFn: () => call("put_away", { workspace: w.workspace }), enabled: open, staleTime: 0 });
  const back = useWork("restore", () => void queries.invalidateQueries({ queryKey: key }));
  return (
    <section aria-label="Put away">
      <Button kind="quiet" className="-ml-2.5" aria-expanded={open} onClick={() => setOpen(!open)}>
        What was put away here
      </Button>
      {open && list.data?.put_away.length === 0 && <p className="text-peat">Nothing is put away.</p>}
      {open && (
        <ul className="divide-y divide-line">
          {list.data?.put_away.map((p) => (
            <li key={p.id} className="flex flex-wrap items-center gap-3 py-2">
              <span className="min-w-40 flex-1">
                <span className="break-all">{p.path}</span>
                <span className="block text-peat">
                  {size(p.size)}, put away <When at={p.at} />
                </span>
              </span>
              <Button
                disabled={back.isPending}
                aria-label={`Bring back ${p.path}`}
                onClick={() => back.mutate({ workspace: w.workspace, names: [p.id] })}
              >
                Bring back
              </Button>
            </li>
          ))}
        </ul>
      )}
      <Trouble error={open ? (list.error ?? back.error) : null} />
    </section>
  );
}
