import { useState, type ReactNode } from "react";
import { Link } from "react-router";
import type { Workspace } from "../../api/desk";
import type { Asset } from "../../api/desk.gen";
import { Ask } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { clock } from "../../parts/Line";
import { Picture } from "../../parts/Picture";
import { Trouble } from "../../parts/Trouble";
import { assetPath, When } from "../../parts/words";
import { useWork } from "./useWork";
import { Refused } from "./WaysOut";

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section aria-label={title}>
      <h3 className="mb-1 text-lg">{title}</h3>
      <ul className="divide-y divide-line">{children}</ul>
    </section>
  );
}

function Name({ w, asset: a, children }: { w: Workspace; asset: Asset; children?: ReactNode }) {
  return (
    <>
      <Picture project={w.project} path={a.path} version={a.version ?? a.newest} edge={96} className="size-10 shrink-0 rounded-md" />
      <span className="min-w-40 flex-1">
        <Link to={assetPath(w.project, a.path)} className="font-medium break-all">
          {a.path}
        </Link>
        <span className="block text-peat">{children}</span>
      </span>
    </>
  );
}

const row = "flex flex-wrap items-center gap-x-3 gap-y-2 py-2";

/** Turns is what is offered: begin takes it, with its newest version. */
export function Turns({ w, list }: { w: Workspace; list: Asset[] }) {
  const begin = useWork("begin");
  if (list.length === 0) return null;
  return (
    <Part title="Your turn">
      {list.map((a) => (
        <li key={a.path} className={row}>
          <Name w={w} asset={a}>
            offered to you until {clock(a.waiting![0]!.offered_until!)}
          </Name>
          <Button
            kind="act"
            disabled={begin.isPending}
            onClick={() => begin.mutate({ workspace: w.workspace, paths: [a.path], open: true })}
          >
            Begin
          </Button>
        </li>
      ))}
      <Refused w={w} error={begin.error} />
    </Part>
  );
}

/** Asked is what others ask one to let go of. */
export function Asked({ w, list }: { w: Workspace; list: Asset[] }) {
  const answer = useWork("answer");
  const [notYet, setNotYet] = useState<Asset>();
  const [word, setWord] = useState("");
  if (list.length === 0) return null;
  return (
    <Part title="They ask you to let go">
      {list.map((a) => (
        <li key={a.path} className="py-2">
          <div className="flex items-center gap-3">
            <Name w={w} asset={a} />
          </div>
          {a
            .lock!.asks!.filter((k) => !k.answer)
            .map((k) => (
              <div key={k.person} className="mt-1 flex flex-wrap items-center gap-2">
                <span className="mr-auto text-peat">
                  {k.person}: “{k.reason}”, <When at={k.at} />
                </span>
                <Button
                  kind="act"
                  disabled={answer.isPending}
                  aria-label={`Give it: ${a.path} to ${k.person}`}
                  onClick={() => answer.mutate({ workspace: w.workspace, path: a.path, give: true, to: k.person })}
                >
                  Give it
                </Button>
                <Button
                  disabled={answer.isPending}
                  aria-label={`Not yet: ${a.path}`}
                  onClick={() => {
                    setWord("");
                    setNotYet(a);
                  }}
                >
                  Not yet
                </Button>
              </div>
            ))}
        </li>
      ))}
      <Refused w={w} error={answer.error} />
      <Ask
        open={!!notYet}
        title="Not yet"
        action="Tell them"
        onAct={() => {
          answer.mutate({ workspace: w.workspace, path: notYet!.path, give: false, ...(word.trim() && { word: word.trim() }) });
          setNotYet(undefined);
        }}
        onClose={() => setNotYet(undefined)}
      >
        <Field label="Why, if you like" value={word} onType={setWord} />
      </Ask>
    </Part>
  );
}

/** Held is what one holds here and has not changed. */
export function Held({ w, list }: { w: Workspace; list: Asset[] }) {
  const unlock = useWork("unlock");
  const open = useWork("open");
  if (list.length === 0) return null;
  return (
    <Part title="You hold">
      {list.slice(0, 40).map((a) => (
        <li key={a.path} className={row}>
          <Name w={w} asset={a}>
            taken <When at={a.lock!.since} />
            {a.lock!.note && `: ${a.lock!.note}`}
            {(a.waiting ?? []).length > 0 && `; ${a.waiting![0]!.handle} waits`}
          </Name>
          <Button
            disabled={open.isPending}
            aria-label={`Open ${a.path}`}
            onClick={() => open.mutate({ workspace: w.workspace, path: a.path })}
          >
            Open
          </Button>
          <Button
            disabled={unlock.isPending}
            aria-label={`Give back ${a.path}`}
            onClick={() => unlock.mutate({ workspace: w.workspace, paths: [a.path] })}
          >
            Give back
          </Button>
        </li>
      ))}
      <Refused w={w} error={unlock.error ?? open.error} />
    </Part>
  );
}

/** Waiting is what one waits for. */
export function Waiting({ w, list }: { w: Workspace; list: Asset[] }) {
  const leave = useWork("unlock");
  if (list.length === 0) return null;
  return (
    <Part title="You wait for">
      {list.map((a) => (
        <li key={a.path} className={row}>
          <Name w={w} asset={a}>
            {a.lock ? `${a.lock.holder} has it` : "free"}; you are number {a.waiting!.findIndex((x) => x.workspace_id === w.workspace) + 1}{" "}
            in line
          </Name>
          <Button
            kind="quiet"
            disabled={leave.isPending}
            aria-label={`Leave the line for ${a.path}`}
            onClick={() => leave.mutate({ workspace: w.workspace, paths: [a.path] })}
          >
            Leave the line
          </Button>
        </li>
      ))}
      <Trouble error={leave.error} />
    </Part>
  );
}

/** Warned is where somebody else has changes that were not sent, to what one works on. */
export function Warned({ w, list }: { w: Workspace; list: Asset[] }) {
  if (list.length === 0) return null;
  return (
    <Part title="Heads-up">
      {list.map((a) => (
        <li key={a.path} className={row}>
          <Name w={w} asset={a}>
            {a
              .heads_up!.filter((h) => h.workspace_id !== w.workspace)
              .map((h) => `${h.handle} has changes that were not sent`)
              .join("; ")}
          </Name>
        </li>
      ))}
    </Part>
  );
}
