import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type DragEvent } from "react";
import { useNavigate } from "react-router";
import { api, ask } from "../../api/client";
import { Ask, fieldClass } from "../../parts/Ask";
import { Trouble } from "../../parts/Trouble";
import { plural, size } from "../../parts/words";
import { Choose } from "../../sending/Choose";
import { filesOf, type Given } from "../../sending/prepare";
import { SendFiles } from "../../sending/SendFiles";

/** A folder's own name is not part of the paths in the project. */
const within = (given: Given[]): Given[] => given.map((g) => ({ ...g, path: g.path.slice(g.path.indexOf("/") + 1) }));

/** StartProject makes a project of a folder that one has: dropped here, or chosen. */
export function StartProject({ me }: { me: string }) {
  const [given, setGiven] = useState<Given[]>();
  const [name, setName] = useState("");
  const [over, setOver] = useState(false);
  const [error, setError] = useState<unknown>();
  const take = (list: Given[]) => {
    if (list.length === 0) return;
    const tops = new Set(list.map((g) => (g.path.includes("/") ? g.path.split("/")[0]! : "")));
    const folder = tops.size === 1 ? [...tops][0]! : "";
    setName(folder);
    setGiven(folder ? within(list) : list);
  };
  return (
    <div
      onDragOver={(e) => {
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e: DragEvent) => {
        e.preventDefault();
        setOver(false);
        filesOf(e.dataTransfer).then(take).catch(setError);
      }}
      className={`mt-6 rounded-lg border border-dashed px-4 py-4 ${over ? "border-copper bg-copper-wash" : "border-edge"}`}
    >
      <p className="mb-2 text-peat">Drop a folder here, and it becomes a project.</p>
      <Choose label="Folder of the new project" takes="folder" onFiles={take}>
        Choose a folder
      </Choose>
      <Trouble error={error} />
      {given && <Start me={me} given={given} name={name} onClose={() => setGiven(undefined)} />}
    </div>
  );
}

/** keyOf makes a key of a folder's name, as keys may be. */
const keyOf = (name: string) =>
  name
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-+|-+$/g, "")
    .slice(0, 40);

function Start({ me, given, name, onClose }: { me: string; given: Given[]; name: string; onClose: () => void }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [key, setKey] = useState(keyOf(name));
  const [presets, setPresets] = useState<string[]>();
  const [otherwise, setOtherwise] = useState("");
  const own = given.find((g) => g.path === "tarn.toml");
  const proposed = useQuery({
    queryKey: ["rules", "proposed", name, given.length, presets, otherwise],
    queryFn: () =>
      ask(
        api.POST("/rules/propose", {
          body: { paths: given.map((g) => g.path), ...(presets && { presets }), ...(otherwise && { otherwise }) },
        }),
      ),
    placeholderData: (before) => before,
    gcTime: 0,
  });
  const [files, setFiles] = useState<Given[]>();
  const start = useMutation({
    mutationFn: () => ask(api.POST("/projects", { body: { key } })),
    onSuccess: () => {
      const rules = own || !proposed.data ? [] : [{ file: new File([proposed.data.text], "tarn.toml"), path: "tarn.toml" }];
      setFiles([...rules, ...given]);
      void queries.invalidateQueries({ queryKey: ["projects"] });
    },
  });
  if (files) {
    return (
      <SendFiles
        here={{ key: start.data!.key, me }}
        files={files}
        folder=""
        proposed="Baseline: everything as it stands"
        onClose={onClose}
        onSent={() => void navigate(`/p/${start.data!.key}`)}
      />
    );
  }
  const taken = proposed.data?.presets.filter((p) => p.taken).map((p) => p.name) ?? [];
  return (
    <Ask
      open
      title="Start a project"
      action="Start"
      busy={start.isPending}
      disabled={!key || (!own && (!proposed.data || proposed.isFetching))}
      onAct={() => start.mutate()}
      onClose={onClose}
    >
      <p>
        {plural(given.length, "file")}, {size(given.reduce((n, g) => n + g.file.size, 0))}. You become its owner; what is sent next is its
        baseline, to which there is always a way back.
      </p>
      <label className="block">
        <span className="mb-1 block text-ink">Its short name</span>
        <input className={fieldClass} value={key} onChange={(e) => setKey(e.target.value)} placeholder="brinelight" maxLength={40} />
      </label>
      {own ? (
        <p>The folder has rules of its own, in tarn.toml.</p>
      ) : (
        <>
          <fieldset>
            <legend className="mb-1 text-ink">What is tracked</legend>
            {proposed.data?.presets.map((p) => (
              <label key={p.name} className="flex items-start gap-2 py-0.5">
                <input
                  type="checkbox"
                  className="mt-1 size-4 accent-copper"
                  checked={p.taken}
                  onChange={() => setPresets(p.taken ? taken.filter((n) => n !== p.name) : [...taken, p.name])}
                />
                <span>
                  <span className="text-ink">{p.name}</span>
                  {p.fits && ", fits these files"}: {p.about}
                </span>
              </label>
            ))}
          </fieldset>
          <label className="block">
            <span className="mb-1 block text-ink">What none of them covers</span>
            <select className={fieldClass} value={otherwise} onChange={(e) => setOtherwise(e.target.value)}>
              <option value="">is an asset that needs its lock</option>
              <option value="code">is left to the main history, with the code</option>
            </select>
          </label>
          {proposed.data && <p role="status">{plural(proposed.data.assets, "file")} of them become assets.</p>}
        </>
      )}
      <Trouble error={proposed.error ?? start.error} />
    </Ask>
  );
}
