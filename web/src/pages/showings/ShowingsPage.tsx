import { useMutation, useQueryClient } from "@tanstack/react-query";
import { memo, useState } from "react";
import { Link } from "react-router";
import { api, ask, type Schemas } from "../../api/client";
import { useRows } from "../../api/rows";
import { Ask } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { List } from "../../parts/List";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { assetPath, comparePath, plural, When } from "../../parts/words";
import { useHere, type Here } from "../project/ProjectFrame";

type Showing = Schemas["Showing"];

/** ShowingsPage lists the links for people outside: what each shows, to whom, how long, whether it was opened. */
export function ShowingsPage() {
  useTitle("Shown outside");
  const here = useHere();
  const queries = useQueryClient();
  const key = ["project", here.key, "showings"];
  const found = useRows<Showing, Schemas["Showings"]>({
    queryKey: key,
    fetch: (skip, limit) =>
      ask(api.GET("/projects/{project}/showings", { params: { path: { project: here.key }, query: { skip, limit } } })),
    rows: (s) => s.showings,
    total: (s) => s.total,
  });
  const turn = useMutation({
    mutationFn: (off: boolean) => ask(api.PUT("/projects/{project}/showings", { params: { path: { project: here.key } }, body: { off } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: key }),
  });
  const [ending, setEnding] = useState<Showing>();
  const end = useMutation({
    mutationFn: (s: Showing) =>
      ask(api.DELETE("/projects/{project}/showings/{showing}", { params: { path: { project: here.key, showing: String(s.number) } } })),
    onSuccess: () => {
      setEnding(undefined);
      return queries.invalidateQueries({ queryKey: key });
    },
  });
  const all = found.first;
  return (
    <>
      <p className="mb-4 max-w-prose text-peat">
        Links by which somebody without an account looks at one version, a comparison or a milestone, and at nothing else. An asset, a
        comparison and a milestone each have a button that makes one.
      </p>
      <Trouble error={found.error ?? turn.error} />
      {all && (all.off || here.mayLead) && (
        <div className="mb-5 flex flex-wrap items-center gap-3">
          {all.off && <p className="font-semibold">A lead switched them off: none of these links leads anywhere.</p>}
          {here.mayLead && (
            <Button disabled={turn.isPending} onClick={() => turn.mutate(!all.off)}>
              {all.off ? "Switch them on again" : "Switch them all off"}
            </Button>
          )}
        </div>
      )}
      {all?.total === 0 && <p className="text-peat">Nothing is shown outside.</p>}
      <List
        rows={found}
        height={91}
        measured
        label="Shown outside"
        className="border-t border-line"
        row={(s) => <One here={here} shown={s} onEnd={setEnding} />}
      />
      {ending && (
        <Ask
          open
          title={`End the link for ${ending.for}?`}
          action="End it"
          busy={end.isPending}
          onAct={() => end.mutate(ending)}
          onClose={() => setEnding(undefined)}
        >
          <p>Whoever has it sees nothing any more, from now on. A new link can be made at any time; this one does not come back.</p>
          <Trouble error={end.error} />
        </Ask>
      )}
    </>
  );
}

const One = memo(function One({ here, shown: s, onEnd }: { here: Here; shown: Showing; onEnd: (s: Showing) => void }) {
  return (
    <div className="grid gap-x-6 gap-y-1 border-b border-line py-3 sm:grid-cols-[minmax(0,1fr)_auto]">
      <div className="min-w-0">
        <What here={here} shown={s} />
        <p>
          to {s.for}
          {s.files && ", who may take the files along"}
        </p>
        <p className="text-peat">
          {s.by}, <When at={s.made} />;{" "}
          {s.opened > 0 ? (
            <>
              opened {plural(s.opened, "time")}, last <When at={s.opened_last!} />
            </>
          ) : (
            "never opened"
          )}
        </p>
      </div>
      <div className="flex items-start gap-4">
        <p className={s.holds ? "" : "text-peat"}>{holds(s)}</p>
        {!s.ended && new Date(s.until) > new Date() && (s.by === here.me || here.mayLead) && (
          <Button onClick={() => onEnd(s)}>End it</Button>
        )}
      </div>
    </div>
  );
});

function holds(s: Showing) {
  const day = (at: string) => new Date(at).toLocaleDateString("en", { day: "numeric", month: "short", year: "numeric" });
  if (s.ended) return `ended by ${s.ended_by}, ${day(s.ended)}`;
  if (new Date(s.until) <= new Date()) return `over since ${day(s.until)}`;
  return s.holds ? `until ${day(s.until)}` : "leads nowhere";
}

function What({ here, shown: s }: { here: Here; shown: Showing }) {
  const to = !s.path
    ? `/p/${here.key}/handoffs/${s.handoff}`
    : s.with
      ? comparePath(here.key, s.path, s.version!, s.with, s.with_version!)
      : `${assetPath(here.key, s.path)}?version=${s.version}`;
  return (
    <Link to={to} className="font-semibold wrap-anywhere">
      {!s.path ? s.state : s.with ? compared(s) : `${s.path}, version ${s.version}`}
    </Link>
  );
}

const compared = (s: Showing) =>
  s.path === s.with
    ? `${s.path}, versions ${s.version} and ${s.with_version}`
    : `${s.path}, version ${s.version}, beside ${s.with}, version ${s.with_version}`;
