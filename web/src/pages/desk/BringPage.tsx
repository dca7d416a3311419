import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ask } from "../../api/client";
import { call, useDesk } from "../../api/desk";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { Page } from "../../parts/Shore";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { plural, size } from "../../parts/words";
import { DeskShore } from "./DeskShore";
import { Far } from "./Newer";
import { PickFolder } from "./PickFolder";
import { StartHere } from "./StartHere";
import { useWork } from "./useWork";

/** BringPage brings a project down to this machine, or makes one of a folder. */
export function BringPage() {
  useTitle("Bring a project here");
  const desk = useDesk();
  const [chosen, setChosen] = useState("");
  const projects = useQuery({
    queryKey: ["desk", "projects", desk.about?.handle],
    queryFn: () => call("projects", {}),
    enabled: !!desk.about?.service,
  });
  const here = new Set(desk.workspaces.map((w) => w.project));
  return (
    <>
      <DeskShore />
      <Page>
        <h1 className="mb-4">Bring a project here</h1>
        <Trouble error={projects.error} />
        <ul className="max-w-3xl divide-y divide-line" aria-label="Projects">
          {projects.data?.projects
            .filter((p) => p.role)
            .map((p) => (
              <li key={p.key} className="py-3">
                <div className="flex flex-wrap items-center gap-4">
                  <span className="min-w-48 flex-1">
                    <span className="text-lg font-semibold">{p.key}</span>
                    <span className="block text-peat">
                      {plural(p.assets, "asset")}, {size(p.size)}
                      {here.has(p.key) && ", on this machine already"}
                    </span>
                  </span>
                  <Button aria-expanded={chosen === p.key} onClick={() => setChosen(chosen === p.key ? "" : p.key)}>
                    {chosen === p.key ? "Not this one" : "Choose"}
                  </Button>
                </div>
                {chosen === p.key && <Join project={p.key} />}
              </li>
            ))}
        </ul>
        <h2 className="mt-10 mb-2 text-xl">Or make one of a folder</h2>
        <StartHere />
      </Page>
    </>
  );
}

/** Join asks where a project shall be, and what of it. */
function Join({ project }: { project: string }) {
  const navigate = useNavigate();
  const [folder, setFolder] = useState<{ folder: string; files: number; empty: boolean }>();
  const [name, setName] = useState(project);
  const [there, setThere] = useState(false);
  const [left, setLeft] = useState<ReadonlySet<string>>(new Set());
  const parts = useQuery({
    queryKey: ["project", project, "folder", ""],
    queryFn: () => ask(api.GET("/projects/{project}/folder", { params: { path: { project }, query: { path: "", limit: 1 } } })),
  });
  const join = useWork("join", () => void navigate("/desk"));
  const folders = parts.data?.folders ?? [];
  const wanted = folders.filter((f) => !left.has(f.name));
  const inside = folder && `${folder.folder.replace(/[\\/]$/, "")}${folder.folder.includes("\\") ? "\\" : "/"}${name.trim()}`;
  const target = there ? folder?.folder : inside;
  return (
    <form
      className="mt-4 space-y-4 rounded-lg border border-line bg-bank p-5"
      aria-label={`Bring ${project} here`}
      onSubmit={(e) => {
        e.preventDefault();
        if (!target || join.isPending) return;
        join.mutate({
          project,
          folder: target,
          ...(there && { here: true }),
          ...(!there && left.size > 0 && { scope: wanted.map((f) => f.name) }),
        });
      }}
    >
      {folders.length > 0 && (
        <fieldset>
          <legend className="mb-1 font-medium">What you need of it</legend>
          {folders.map((f) => (
            <label key={f.name} className="flex items-center gap-2 py-0.5">
              <input
                type="checkbox"
                className="size-4 accent-copper"
                checked={!left.has(f.name)}
                onChange={() => {
                  const next = new Set(left);
                  if (!next.delete(f.name)) next.add(f.name);
                  setLeft(next);
                }}
              />
              <span>{f.name}</span>
              <span className="text-peat">
                {plural(f.assets, "asset")}, {size(f.size)}
              </span>
            </label>
          ))}
          <p className="mt-1 text-peat" role="status">
            {size(wanted.reduce((n, f) => n + f.size, 0))} to bring{left.size > 0 && "; the rest can come later"}.
          </p>
        </fieldset>
      )}
      <PickFolder legend="Where it shall be" onPick={setFolder} />
      {folder && !folder.empty && (
        <label className="flex items-center gap-2">
          <input type="checkbox" className="size-4 accent-copper" checked={there} onChange={(e) => setThere(e.target.checked)} />
          The folder that is open has the files already: take over what fits, and overwrite nothing
        </label>
      )}
      {!there && <Field label="Name of its folder" className="block max-w-sm" value={name} onType={setName} />}
      <Button kind="act" type="submit" disabled={!target || !name.trim() || join.isPending || (wanted.length === 0 && folders.length > 0)}>
        Bring it here
      </Button>
      {join.isPending && <Far progress={join.progress} />}
      <Trouble error={join.error} />
    </form>
  );
}
