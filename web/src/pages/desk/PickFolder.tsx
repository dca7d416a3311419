import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { call } from "../../api/desk";
import { Trouble } from "../../parts/Trouble";

interface Picked {
  folder: string;
  files: number;
  empty: boolean;
}

/** PickFolder is a choice of a folder of this machine: one goes down and up by clicking, and what is open is what is chosen. */
export function PickFolder({ legend, onPick }: { legend: string; onPick: (p: Picked | undefined) => void }) {
  const [folder, setFolder] = useState("");
  const found = useQuery({
    queryKey: ["desk", "folders", folder],
    queryFn: () => call("folders", { folder }),
    placeholderData: (before) => before,
    staleTime: 0,
  });
  const f = found.data;
  // biome-ignore lint/correctness/useExhaustiveDependencies: told when another folder is open
  useEffect(() => {
    onPick(f && !found.error ? { folder: f.folder, files: f.files, empty: f.files + f.folders.length === 0 } : undefined);
  }, [f?.folder, found.error]);
  const into = (name: string) => setFolder(`${f!.folder.replace(/[\\/]$/, "")}${f!.folder.includes("\\") ? "\\" : "/"}${name}`);
  const parts = f?.folder.split(/[\\/]/).filter(Boolean) ?? [];
  const entry = "block w-full rounded-md px-2 py-1 text-left hover:bg-stone";
  return (
    <fieldset>
      <legend className="mb-1 font-medium">{legend}</legend>
      <p className="mb-1 wrap-anywhere" role="status">
        {parts.length > 0 ? parts.join(" › ") : "This machine"}
        {f?.workspace && <span className="text-peat">; a workspace of {f.workspace}</span>}
      </p>
      <div className="h-44 overflow-y-auto rounded-md border border-edge bg-deep p-1">
        {f?.up && (
          <button type="button" className={`${entry} text-peat`} onClick={() => setFolder(f.up)}>
            One up
          </button>
        )}
        {f?.folders.map((name) => (
          <button key={name} type="button" className={entry} onClick={() => into(name)}>
            {name}
          </button>
        ))}
        {f?.folders.length === 0 && <p className="px-2 py-1 text-peat">No folders in it.</p>}
      </div>
      <Trouble error={found.error} />
    </fieldset>
  );
}
