import { useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ask, newKey } from "../../api/client";
import { Ask } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { assetPath, firstLine, folderPath, plural, When } from "../../parts/words";
import { branchPath, useAct } from "../branches/useBranches";
import { useHere, type Here } from "../project/ProjectFrame";
import { reviewPath } from "../review/Reviews";
import { KitStrip } from "./KitAssets";
import { BringKit, UseKit } from "./Bring";
import { changeKit, isBehind, kitPath, madeBy, standing, useKits, type Kit, type KitUse } from "./useKits";

/** KitsPage is what a project has of others, and what it makes for them. */
export function KitsPage() {
  useTitle("Kits");
  const here = useHere();
  const found = useKits(here.key);
  const [using, setUsing] = useState(false);
  const { made = [], uses = [] } = found.data ?? {};
  return (
    <>
      <Trouble error={found.error} />
      {found.data && made.length + uses.length === 0 && (
        <p className="max-w-prose text-peat">
          A kit is a set of assets that one project releases and others use: props, footprints, a sound library. This project uses none, and
          its rules name none that it makes.
        </p>
      )}
      <div className="mb-3 flex flex-wrap items-baseline gap-x-6 gap-y-1">
        {uses.length > 0 && <h2>Used here</h2>}
        {found.data && here.maySend && <Button onClick={() => setUsing(true)}>Use a kit</Button>}
      </div>
      <ul className="mb-10 border-t border-line empty:hidden">
        {uses.map((u) => (
          <li key={u.dir} className="border-b border-line py-3">
            <Use here={here} use={u} />
          </li>
        ))}
      </ul>
      {made.length > 0 && <h2 className="mb-3">Made here</h2>}
      <ul className="border-t border-line empty:hidden">
        {made.map((k) => (
          <li key={k.name} className="border-b border-line py-3">
            <Made here={here} kit={k} />
          </li>
        ))}
      </ul>
      {using && <UseKit project={here.key} onClose={() => setUsing(false)} />}
    </>
  );
}

function Made({ here, kit: k }: { here: Here; kit: Kit }) {
  const [releasing, setReleasing] = useState(false);
  const latest = k.releases[0];
  return (
    <div className="grid gap-x-6 gap-y-1 sm:grid-cols-[minmax(0,1fr)_auto]">
      <div className="min-w-0">
        <Link to={kitPath(here.key, k.name)} className="text-lg font-semibold">
          {k.name}
        </Link>
        {latest ? (
          <>
            <p className="max-w-prose wrap-anywhere">{firstLine(latest.note)}</p>
            <p className="text-peat">
              @{latest.number}, of h{latest.handoff}, released by {latest.person}, <When at={latest.at} />
            </p>
          </>
        ) : (
          <p className="text-peat">Not released yet.</p>
        )}
        <p className="text-peat wrap-anywhere">
          {k.match.length > 0 ? `Everything that matches ${k.match.join(", ")}` : "The rules do not name it any more"}
        </p>
        {latest && <KitStrip name={`${here.key}/${k.name}`} release={latest.number} />}
      </div>
      {here.mayLead && k.match.length > 0 && (
        <p>
          <Button onClick={() => setReleasing(true)}>Release @{(latest?.number ?? 0) + 1}</Button>
        </p>
      )}
      {releasing && <ReleaseKit here={here} kit={k} onClose={() => setReleasing(false)} />}
    </div>
  );
}

/** ReleaseKit releases a kit as the project is now. */
export function ReleaseKit({ here, kit: k, onClose }: { here: Here; kit: Kit; onClose: () => void }) {
  const [note, setNote] = useState("");
  const number = (k.releases[0]?.number ?? 0) + 1;
  const act = useAct(
    here.key,
    () => ask(api.POST("/projects/{project}/kits", { params: { path: { project: here.key } }, body: { kit: k.name, note } })),
    onClose,
  );
  return (
    <Ask
      open
      title={`Release ${k.name}@${number}`}
      action={`Release @${number}`}
      busy={act.isPending}
      disabled={note.trim() === ""}
      onAct={() => act.mutate(undefined)}
      onClose={onClose}
    >
      <p>What matches {k.match.join(", ")}, as it is now. A release never changes; the projects that use the kit are told of it.</p>
      <Field label="What is new in it" value={note} onType={setNote} />
      <Trouble error={act.error} />
    </Ask>
  );
}

function Use({ here, use: u }: { here: Here; use: KitUse }) {
  const [doing, setDoing] = useState<"bring" | "detach" | "offer">();
  const { project, kit } = madeBy(u.kit);
  const done = () => setDoing(undefined);
  return (
    <div className="grid gap-x-6 gap-y-1 sm:grid-cols-[minmax(0,1fr)_auto]">
      <div className="min-w-0">
        <Link to={folderPath(here.key, u.dir)} className="text-lg font-semibold break-all">
          {u.dir}
        </Link>
        <p>
          {u.newest ? (
            <Link to={kitPath(project, kit, u.release)}>
              {u.kit}@{u.release}
            </Link>
          ) : (
            `${u.kit}@${u.release}`
          )}
          , {plural(u.assets, "asset")};{" "}
          <span className={isBehind(u) && !u.stay ? "font-medium text-copper" : "text-peat"}>{standing(u)}</span>
        </p>
        {u.changed.length > 0 && (
          <p className="text-peat wrap-anywhere">
            Changed here:{" "}
            {u.changed.slice(0, 6).map((p, i) => (
              <span key={p}>
                {i > 0 && ", "}
                <Link to={assetPath(here.key, `${u.dir}/${p}`)}>{p}</Link>
              </span>
            ))}
            {u.changed.length > 6 && ` and ${u.changed.length - 6} more`}
          </p>
        )}
        {!!u.newest && <KitStrip name={u.kit} release={u.release} />}
      </div>
      <p className="flex flex-wrap items-baseline gap-2 sm:justify-end">
        {isBehind(u) && <Link to={kitPath(project, kit, u.newest, u.release)}>What is new</Link>}
        {here.maySend && !!u.newest && (
          <Button kind={isBehind(u) && !u.stay ? "act" : "quiet"} onClick={() => setDoing("bring")}>
            {isBehind(u) && !u.stay ? `Bring @${u.newest}` : "Another release"}
          </Button>
        )}
        {here.maySend && u.changed.length > 0 && !!u.newest && (
          <Button kind="quiet" onClick={() => setDoing("offer")}>
            Offer the changes
          </Button>
        )}
        {here.maySend && (
          <Button kind="quiet" onClick={() => setDoing("detach")}>
            Detach
          </Button>
        )}
      </p>
      {doing === "bring" && <BringKit project={here.key} use={u} onClose={done} />}
      {doing === "detach" && <Detach here={here} use={u} onClose={done} />}
      {doing === "offer" && <Offer here={here} use={u} onClose={done} />}
    </div>
  );
}

function Detach({ here, use: u, onClose }: { here: Here; use: KitUse; onClose: () => void }) {
  const once = useRef(newKey());
  const act = useAct(here.key, () => changeKit(here.key, { dir: u.dir, detach: true }, once.current), onClose);
  return (
    <Ask
      open
      title={`Detach ${u.dir} from ${u.kit}?`}
      action="Detach"
      busy={act.isPending}
      onAct={() => act.mutate(undefined)}
      onClose={onClose}
    >
      <p>
        Its {plural(u.assets, "asset")} stay as they are, with their past, and are ordinary ones from then on: releases of the kit do not
        reach them any more. It is a handoff, and can be rolled back like any other.
      </p>
      <Trouble error={act.error} />
    </Ask>
  );
}

function Offer({ here, use: u, onClose }: { here: Here; use: KitUse; onClose: () => void }) {
  const [why, setWhy] = useState("");
  const navigate = useNavigate();
  const once = useRef(newKey());
  const { project, kit } = madeBy(u.kit);
  const act = useAct(here.key, () =>
    ask(
      api.POST("/projects/{project}/uses/offer", {
        params: { path: { project: here.key }, header: { "Idempotency-Key": once.current } },
        body: { dir: u.dir, why },
      }),
    ),
  );
  const out = act.data;
  if (out) {
    return (
      <Ask
        open
        title={`${project} has it`}
        action="Look at the review"
        onAct={() => void navigate(reviewPath(project, out.review))}
        onClose={onClose}
      >
        <p>
          It is on the branch <Link to={branchPath(project, out.branch)}>{out.branch}</Link>, as h{out.handoff}, with the review r
          {out.review}
          {out.asked.length > 0 && `, which asks ${out.asked.join(", ")}`}. Once it is accepted and merged there, it comes with the next
          release of {kit}.
        </p>
      </Ask>
    );
  }
  return (
    <Ask
      open
      title={`Offer what is changed to ${project}`}
      action="Offer it"
      busy={act.isPending}
      disabled={why.trim() === ""}
      onAct={() => act.mutate(undefined)}
      onClose={onClose}
    >
      <p>
        What is changed in {u.dir} ({plural(u.changed.length, "asset")}), as it is here, goes to {project} on a branch of its own, with a
        review that asks its leads. Nothing else changes there before they take it.
      </p>
      <Field label="Why they should take it" value={why} onType={setWhy} />
      <Trouble error={act.error} />
    </Ask>
  );
}
