import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schemas } from "../../api/client";
import { Ask, fieldClass } from "../../parts/Ask";
import { newsKinds } from "../../api/words.gen";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";
import { When } from "../../parts/words";
import type { Here } from "../project/ProjectFrame";

type Hook = Schemas["Hook"];

const kinds: [string, string][] = newsKinds.map((k) => [k.name, k.short]);

/** Hooks are where else a project's news goes: the team's chat, mostly. */
export function Hooks({ here }: { here: Here }) {
  const queries = useQueryClient();
  const found = useQuery({
    queryKey: ["project", here.key, "hooks"],
    queryFn: () => ask(api.GET("/projects/{project}/hooks", { params: { path: { project: here.key } } })),
  });
  const [url, setURL] = useState("");
  const [chosen, setChosen] = useState(["work", "lost"]);
  const [made, setMade] = useState<Hook>();
  const [ending, setEnding] = useState<Hook>();
  const refresh = () => queries.invalidateQueries({ queryKey: ["project", here.key, "hooks"] });
  const add = useMutation({
    mutationFn: () => ask(api.POST("/projects/{project}/hooks", { params: { path: { project: here.key } }, body: { url, kinds: chosen } })),
    onSuccess: (hook) => {
      setMade(hook);
      setURL("");
      return refresh();
    },
  });
  const remove = useMutation({
    mutationFn: (h: Hook) =>
      ask(api.DELETE("/projects/{project}/hooks/{hook}", { params: { path: { project: here.key, hook: String(h.id) } } })),
    onSuccess: () => {
      setEnding(undefined);
      return refresh();
    },
  });
  const hosts = found.data?.hosts ?? [];
  return (
    <section aria-labelledby="hooks">
      <h2 id="hooks">To the team's chat, and to programs</h2>
      <p className="mt-1 mb-3 text-peat">
        {hosts.length > 0
          ? `Posts go to addresses at ${hosts.join(", ")}, each signed with a secret of its own.`
          : "This service sends no posts: whoever runs it names the hosts that they may go to, with --hook-hosts."}
      </p>
      <Trouble error={found.error} />
      <ul className="space-y-3">
        {found.data?.hooks.map((h) => (
          <li key={h.id} className="border-l-3 border-ice pl-4">
            <span className="font-medium break-all">{h.url}</span>
            <span className="block text-peat">
              {h.kinds.map((k) => kinds.find(([name]) => name === k)?.[1] ?? k).join(", ")}; made by {h.person}, <When at={h.made} />
              {h.delivered ? (
                <>
                  ; last worked <When at={h.delivered} />
                </>
              ) : (
                "; nothing went out yet"
              )}
            </span>
            {h.trouble && (
              <span className="block text-rust">
                {h.trouble}
                {h.waiting > 0 && `; ${h.waiting} still to go, tried again by itself`}
              </span>
            )}
            <Button kind="quiet" className="-ml-2.5" onClick={() => setEnding(h)} aria-label={`Stop posting to ${h.url}`}>
              Stop
            </Button>
          </li>
        ))}
      </ul>
      {hosts.length > 0 && (
        <form
          className="mt-4 space-y-3"
          onSubmit={(e) => {
            e.preventDefault();
            add.mutate();
          }}
        >
          <label className="block">
            <span className="mb-1 block">Post to</span>
            <input className={fieldClass} value={url} placeholder={`https://${hosts[0]}/…`} onChange={(e) => setURL(e.target.value)} />
          </label>
          <fieldset className="flex flex-wrap gap-x-4 gap-y-1">
            <legend className="sr-only">What</legend>
            {kinds.map(([name, words]) => (
              <label key={name} className="flex items-center gap-1.5">
                <input
                  type="checkbox"
                  className="size-4 accent-copper"
                  checked={chosen.includes(name)}
                  onChange={(e) => setChosen(e.target.checked ? [...chosen, name] : chosen.filter((k) => k !== name))}
                />
                {words}
              </label>
            ))}
          </fieldset>
          <Button type="submit" disabled={!url || chosen.length === 0 || add.isPending}>
            Add
          </Button>
          <Trouble error={add.error} />
        </form>
      )}
      {made?.secret && (
        <Ask
          open
          title="Its secret, shown this once"
          action="I have it"
          onAct={() => setMade(undefined)}
          onClose={() => setMade(undefined)}
        >
          <p>Whoever gets the posts checks with it that they come from here (Standard Webhooks).</p>
          <code className="block rounded-md bg-deep px-3 py-2 text-sm break-all text-ink">{made.secret}</code>
        </Ask>
      )}
      {ending && (
        <Ask
          open
          title="Stop posting there?"
          action="Stop"
          busy={remove.isPending}
          onAct={() => remove.mutate(ending)}
          onClose={() => setEnding(undefined)}
        >
          <p className="break-all">{ending.url} gets nothing more, and its secret ends. Adding it again makes a new one.</p>
          <Trouble error={remove.error} />
        </Ask>
      )}
    </section>
  );
}
