import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { call } from "../../api/desk";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { Trouble } from "../../parts/Trouble";
import { plural, size } from "../../parts/words";
import { Far } from "./Newer";
import { PickFolder } from "./PickFolder";
import { useWork } from "./useWork";

/** StartHere makes a project of a folder of this machine, and says first what it would track. */
export function StartHere() {
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const [folder, setFolder] = useState("");
  const [key, setKey] = useState("");
  const look = useQuery({
    queryKey: ["desk", "would-start", folder],
    queryFn: () => call("would_start", { folder }),
    enabled: open && !!folder,
    retry: false,
    staleTime: 0,
  });
  const start = useWork("start", () => void navigate("/desk"));
  if (!open) return <Button onClick={() => setOpen(true)}>Choose a folder</Button>;
  const p = look.data;
  return (
    <form
      className="max-w-3xl space-y-4 rounded-lg border border-line bg-bank p-5"
      aria-label="Make a project of a folder"
      onSubmit={(e) => {
        e.preventDefault();
        if (folder && key.trim() && !start.isPending) start.mutate({ project: key.trim(), folder });
      }}
    >
      <PickFolder legend="The folder" onPick={(f) => setFolder(f?.folder ?? "")} />
      <Trouble error={look.error} />
      {p && (
        <div role="status" className="space-y-1 text-peat">
          <p className="text-ink">
            It would track {plural(p.files, "file")}, {size(p.size)}
            {p.presets.length > 0 && <>, by the rules for {p.presets.join(" and ")}</>}.
          </p>
          {p.left_out > 0 && <p>{plural(p.left_out, "file or folder", "files and folders")} would be left out.</p>}
          {p.largest.length > 0 && (
            <p className="wrap-anywhere">
              The largest:{" "}
              {p.largest
                .slice(0, 5)
                .map((a) => `${a.path} (${size(a.size)})`)
                .join(", ")}
            </p>
          )}
          {p.odd.map((o) => (
            <p key={o.path} className="text-rust wrap-anywhere">
              {o.message}
            </p>
          ))}
        </div>
      )}
      <Field label="Its short name" className="block max-w-sm" value={key} placeholder="brinelight" maxLength={40} onType={setKey} />
      <Button kind="act" type="submit" disabled={!p || !key.trim() || start.isPending}>
        Make the project
      </Button>
      {start.isPending && <Far progress={start.progress} />}
      <Trouble error={start.error} />
    </form>
  );
}
