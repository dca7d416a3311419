import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { useNavigate } from "react-router";
import { outcomes } from "../../acts/outcomes";
import { api, ask, type Schemas } from "../../api/client";
import { Ask, fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";
import { folderPath } from "../../parts/words";
import type { Here } from "../project/ProjectFrame";

type View = Schemas["View"];

interface Props {
  here: Here;
  folder: string;
  /** What is filtered, sorted and shown now, as the address has it. */
  params: URLSearchParams;
}

const item = "flex cursor-default items-center gap-3 rounded-md px-3 py-1.5 outline-none data-highlighted:bg-stone";

/** Views are what somebody filtered and kept under a name: their own, and the team's. */
export function Views({ here, folder, params }: Props) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [keeping, setKeeping] = useState(false);
  const queryKey = ["project", here.key, "views"];
  const path = { project: here.key };
  const views = useQuery({ queryKey, staleTime: 60_000, queryFn: () => ask(api.GET("/projects/{project}/views", { params: { path } })) });
  const remove = useMutation({
    mutationFn: (v: View) =>
      ask(
        api.DELETE("/projects/{project}/views/{view}", {
          params: { path: { ...path, view: v.name }, ...(v.team && { query: { team: true } }) },
        }),
      ),
    onSuccess: (_, v) => {
      outcomes.done("views", `The view ${v.name} is removed`);
      return queries.invalidateQueries({ queryKey });
    },
    onError: (error) => outcomes.failed({ what: "views", error }),
  });
  const list = views.data?.views ?? [];
  const now = query(params);
  const shown = list.find((v) => v.folder === folder && v.query === now);
  return (
    <>
      <DropdownMenu.Root>
        <DropdownMenu.Trigger asChild>
          <Button kind="quiet">{shown ? `View: ${shown.name}` : "Views"}</Button>
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content
            align="start"
            sideOffset={4}
            className="z-20 max-h-96 max-w-sm overflow-y-auto rounded-lg border border-line bg-bank p-1 text-sm shadow-xl"
          >
            {list.length === 0 && <p className="px-3 py-1.5 text-peat">Nothing is kept yet. Filter for something, then keep it.</p>}
            {list.map((v) => (
              <DropdownMenu.Item
                key={`${v.name} ${v.team}`}
                className={item}
                onSelect={() => void navigate(`${folderPath(here.key, v.folder)}?${v.query}`)}
              >
                <span className="min-w-0 flex-1 truncate">{v.name}</span>
                <span className="text-xs text-peat">{v.team ? "the team’s" : "yours"}</span>
              </DropdownMenu.Item>
            ))}
            <DropdownMenu.Separator className="my-1 h-px bg-line" />
            <DropdownMenu.Item className={item} disabled={!now} onSelect={() => setKeeping(true)}>
              <span className={now ? "" : "text-peat"}>Keep what is shown …</span>
            </DropdownMenu.Item>
            {shown && (!shown.team || here.maySend) && (
              <DropdownMenu.Item className={item} onSelect={() => remove.mutate(shown)}>
                Remove {shown.name}
              </DropdownMenu.Item>
            )}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      {keeping && <Keep here={here} folder={folder} query={now} onClose={() => setKeeping(false)} />}
    </>
  );
}

/** query is what of an address a view keeps: all but the state that is looked at. */
function query(params: URLSearchParams): string {
  const kept = new URLSearchParams([...params].filter(([k]) => k !== "at"));
  kept.sort();
  return kept.toString();
}

function Keep({ here, folder, query, onClose }: { here: Here; folder: string; query: string; onClose: () => void }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [team, setTeam] = useState(false);
  const keep = useMutation({
    mutationFn: () =>
      ask(
        api.PUT("/projects/{project}/views/{view}", {
          params: { path: { project: here.key, view: name.trim() } },
          body: { team, folder, query },
        }),
      ),
    onSuccess: async (v) => {
      await queries.invalidateQueries({ queryKey: ["project", here.key, "views"] });
      outcomes.done("views", `The view ${v.name} is kept`);
      onClose();
    },
  });
  return (
    <Ask
      open
      title="Keep this view"
      action="Keep"
      busy={keep.isPending}
      disabled={!name.trim()}
      onAct={() => keep.mutate()}
      onClose={onClose}
    >
      <p>What is filtered and how it is sorted and shown, {folder ? `below ${folder}` : "in all folders"}.</p>
      <label className="block">
        <span className="mb-1 block text-ink">Its name</span>
        <input className={fieldClass} value={name} onChange={(e) => setName(e.target.value)} maxLength={60} />
      </label>
      {here.maySend && (
        <label className="flex items-center gap-2">
          <input type="checkbox" className="size-4 accent-copper" checked={team} onChange={(e) => setTeam(e.target.checked)} />
          For the whole team
        </label>
      )}
      <Trouble error={keep.error} />
    </Ask>
  );
}
