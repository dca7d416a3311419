import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { api, ask, newKey, type Schemas } from "../../api/client";
import { Ask, fieldClass } from "../../parts/Ask";
import { Field } from "../../parts/Field";
import { Trouble } from "../../parts/Trouble";
import { plural } from "../../parts/words";
import { useAct } from "../branches/useBranches";
import { KitAssets } from "./KitAssets";
import { changeKit, isBehind, madeBy, useKits, type KitAnswer, type KitUse } from "./useKits";

/** useSeen says what a change of a use would do, for as long as a dialog asks. */
function useSeen(key: string, q: Omit<Schemas["KitRequest"], "workspace">, enabled: boolean) {
  return useQuery({
    enabled,
    retry: false,
    staleTime: 0,
    gcTime: 0,
    queryKey: ["kit preview", key, q],
    queryFn: () => changeKit(key, { ...q, preview: true }),
  });
}

/** Seen is what it would do, in words and pictures. */
function Seen({ project, seen }: { project: string; seen: KitAnswer }) {
  return (
    <>
      <p>
        {seen.changes.length > 0
          ? `${plural(seen.changes.length, "asset")} would change, as one handoff.`
          : "No asset would change; only what it is tied to."}
      </p>
      {seen.kept.length > 0 && (
        <p>
          Changed here before, and left as they are: <span className="text-ink wrap-anywhere">{seen.kept.slice(0, 20).join(", ")}</span>
          {seen.kept.length > 20 && ` and ${seen.kept.length - 20} more`}.
        </p>
      )}
      {seen.refusals.length > 0 && (
        <div role="alert" className="border-l-3 border-rust px-3">
          <p className="text-rust">This stands in the way:</p>
          {seen.refusals.slice(0, 8).map((r) => (
            <p key={r.path + r.reason} className="wrap-anywhere">
              {r.message}
            </p>
          ))}
        </div>
      )}
      <KitAssets project={project} assets={seen.changes} />
    </>
  );
}

const Note = ({ note, onType }: { note: string; onType: (t: string) => void }) => (
  <Field label="Why (left out, it says what was done)" quiet value={note} onType={onType} />
);

/** BringKit brings a use to the latest release, or to one that is chosen. */
export function BringKit({ project, use: u, onClose }: { project: string; use: KitUse; onClose: () => void }) {
  const { project: maker, kit } = madeBy(u.kit);
  const [to, setTo] = useState(isBehind(u) ? u.newest! : u.release);
  const [stay, setStay] = useState(!!u.stay);
  const [note, setNote] = useState("");
  const once = useRef(newKey());
  const made = useKits(maker);
  const releases = made.data?.made.find((k) => k.name === kit)?.releases ?? [];
  const same = to === u.release && stay === !!u.stay;
  const q = { dir: u.dir, to, stay };
  const seen = useSeen(project, q, !same);
  const act = useAct(project, () => changeKit(project, { ...q, ...(note && { note }) }, once.current), onClose);
  return (
    <Ask
      open
      title={`Another release of ${kit} in ${u.dir}`}
      action={`Bring @${to}`}
      busy={act.isPending}
      disabled={same || !seen.data || seen.data.refusals.length > 0}
      onAct={() => act.mutate(undefined)}
      onClose={onClose}
    >
      <label className="block">
        <span className="mb-1 block font-medium">Release</span>
        <select className={fieldClass} value={to} onChange={(e) => setTo(Number(e.target.value))}>
          {releases.map((r) => (
            <option key={r.number} value={r.number}>
              @{r.number}
              {r.number === u.newest ? ", the latest" : ""}
              {r.number === u.release ? ", which is here" : ""}: {r.note.split("\n", 1)[0]}
            </option>
          ))}
        </select>
      </label>
      <label className="flex items-baseline gap-2">
        <input type="checkbox" checked={stay} onChange={(e) => setStay(e.target.checked)} />
        Keep to this release, also when there is a later one
      </label>
      <Trouble error={act.error ?? (same ? null : seen.error)} />
      {!same && seen.data && <Seen project={maker} seen={seen.data} />}
      <Note note={note} onType={setNote} />
    </Ask>
  );
}

/** UseKit brings a kit into a folder of a project. What is not given (the kit, or the project) is chosen. */
export function UseKit({ project, kit, onClose }: { project?: string; kit?: string; onClose: () => void }) {
  const projects = useQuery({ queryKey: ["projects"], queryFn: () => ask(api.GET("/projects")) });
  const given = kit === undefined ? undefined : madeBy(kit);
  const [maker, setMaker] = useState(given?.project ?? "");
  const [name, setName] = useState(given?.kit ?? "");
  const [into, setInto] = useState(project ?? "");
  const [dir, setDir] = useState(given ? `kits/${given.kit}` : "");
  const [note, setNote] = useState("");
  const once = useRef(newKey());
  const list = projects.data?.projects ?? [];
  const made = useKits(maker, maker !== "");
  const released = made.data?.made.filter((k) => k.releases.length > 0) ?? [];
  const whole = maker !== "" && name !== "" && into !== "" && dir.trim() !== "";
  const q = { kit: `${maker}/${name}`, dir: dir.trim() };
  const seen = useSeen(into, q, whole);
  const act = useAct(into, () => changeKit(into, { ...q, ...(note && { note }) }, once.current), onClose);
  return (
    <Ask
      open
      title={kit ? `Use ${kit}` : `Use a kit in ${project}`}
      action="Use it"
      busy={act.isPending}
      disabled={!whole || !seen.data || seen.data.refusals.length > 0}
      onAct={() => act.mutate(undefined)}
      onClose={onClose}
    >
      {!given && (
        <>
          <label className="block">
            <span className="mb-1 block font-medium">Made in</span>
            <select
              className={fieldClass}
              value={maker}
              onChange={(e) => {
                setMaker(e.target.value);
                setName("");
              }}
            >
              <option value="">Choose a project</option>
              {list
                .filter((p) => p.key !== into && p.role)
                .map((p) => (
                  <option key={p.key}>{p.key}</option>
                ))}
            </select>
          </label>
          {made.data && released.length === 0 && <p>{maker} has released no kit.</p>}
          {released.length > 0 && (
            <label className="block">
              <span className="mb-1 block font-medium">Kit</span>
              <select
                className={fieldClass}
                value={name}
                onChange={(e) => {
                  setName(e.target.value);
                  setDir(`kits/${e.target.value}`);
                }}
              >
                <option value="">Choose a kit</option>
                {released.map((k) => (
                  <option key={k.name} value={k.name}>
                    {k.name}@{k.releases[0]!.number}
                  </option>
                ))}
              </select>
            </label>
          )}
        </>
      )}
      {project === undefined && (
        <label className="block">
          <span className="mb-1 block font-medium">In</span>
          <select className={fieldClass} value={into} onChange={(e) => setInto(e.target.value)}>
            <option value="">Choose a project</option>
            {list
              .filter((p) => p.key !== maker && p.role && p.role !== "viewer" && !p.archived)
              .map((p) => (
                <option key={p.key}>{p.key}</option>
              ))}
          </select>
        </label>
      )}
      <Field label="Folder" value={dir} onType={setDir} />
      <Trouble error={projects.error ?? act.error ?? (whole ? seen.error : null)} />
      {whole && seen.data && <Seen project={maker} seen={seen.data} />}
      <Note note={note} onType={setNote} />
    </Ask>
  );
}
