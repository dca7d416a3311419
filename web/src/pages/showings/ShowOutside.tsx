import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schemas } from "../../api/client";
import { Ask, fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";
import type { Here } from "../project/ProjectFrame";

/** What is to be shown, and in which words. */
export interface ToShow {
  what: Pick<Schemas["ShowingRequest"], "at" | "path" | "version" | "compare" | "with" | "with_version">;
  words: string;
}

const lengths = [
  [1, "a day"],
  [7, "a week"],
  [14, "two weeks"],
  [30, "a month"],
  [90, "three months"],
] as const;

/** ShowOutside is the button that makes a link for somebody outside, and what asks for whom and how long. */
export function ShowOutside({ here, show, kind }: { here: Here; show: ToShow; kind?: "quiet" }) {
  const [asked, setAsked] = useState<ToShow>(); // what it was when one asked: another row may come to stand here meanwhile
  if (!here.maySend) return null;
  return (
    <>
      <Button {...(kind && { kind })} onClick={() => setAsked(show)}>
        Show to somebody outside
      </Button>
      {asked && <Making here={here} show={asked} onClose={() => setAsked(undefined)} />}
    </>
  );
}

function Making({ here, show, onClose }: { here: Here; show: ToShow; onClose: () => void }) {
  const queries = useQueryClient();
  const [who, setWho] = useState("");
  const [days, setDays] = useState(14);
  const [files, setFiles] = useState(false);
  const [copied, setCopied] = useState(false);
  const act = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/projects/{project}/showings", {
          params: { path: { project: here.key } },
          body: { ...show.what, for: who, days, files },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["project", here.key, "showings"] }),
  });
  const made = act.data;
  if (made) {
    const address = location.origin + made.address!;
    return (
      <Ask
        open
        title={`A link for ${made.for}`}
        action={copied ? "Copied" : "Copy the link"}
        onAct={() =>
          void navigator.clipboard?.writeText(address).then(
            () => setCopied(true),
            () => {},
          )
        }
        onClose={onClose}
      >
        <p>It is shown this once. Whoever has it sees {show.words}, and nothing else.</p>
        <input
          className={`${fieldClass} font-mono text-sm`}
          readOnly
          aria-label="The link"
          value={address}
          onFocus={(e) => e.currentTarget.select()}
        />
      </Ask>
    );
  }
  return (
    <Ask
      open
      title={`Show ${show.words} to somebody outside`}
      action="Make a link"
      busy={act.isPending}
      disabled={!who.trim()}
      onAct={() => act.mutate()}
      onClose={onClose}
    >
      <p>A link that needs no account: whoever has it looks at this, and at nothing else of {here.key}. You can end it at any time.</p>
      <label className="block">
        <span className="mb-1 block text-ink">For whom</span>
        <input className={fieldClass} value={who} maxLength={200} onChange={(e) => setWho(e.target.value)} />
      </label>
      <label className="block">
        <span className="mb-1 block text-ink">For how long</span>
        <select className={fieldClass} value={days} onChange={(e) => setDays(Number(e.target.value))}>
          {lengths.map(([n, words]) => (
            <option key={n} value={n}>
              {words}
            </option>
          ))}
        </select>
      </label>
      <label className="flex items-center gap-2">
        <input type="checkbox" className="size-4 accent-copper" checked={files} onChange={(e) => setFiles(e.target.checked)} />
        They may take the files along
      </label>
      <Trouble error={act.error} />
    </Ask>
  );
}
