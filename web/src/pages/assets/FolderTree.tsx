import { useQuery } from "@tanstack/react-query";
import { useState, type KeyboardEvent } from "react";
import { Link } from "react-router";
import { api, ask } from "../../api/client";
import { folderPath } from "../../parts/words";

interface Props {
  project: string;
  /** The folder that is shown. */
  folder: string;
  at: string;
}

/** FolderTree is the project's folders, which open and close: by mouse, and with the arrow keys. */
export function FolderTree({ project, folder, at }: Props) {
  const move = (e: KeyboardEvent<HTMLElement>) => {
    const links = [...e.currentTarget.querySelectorAll<HTMLElement>("a")];
    const i = links.indexOf(document.activeElement as HTMLElement);
    const to = { ArrowDown: i + 1, ArrowUp: i - 1, Home: 0, End: links.length - 1 }[e.key];
    if (i < 0 || to === undefined || !links[to]) return;
    e.preventDefault();
    links[to].focus();
  };
  return (
    <nav aria-label="Folders" onKeyDown={move} className="text-sm">
      <ul>
        <Branch project={project} path="" name="All assets" shown={folder} at={at} depth={0} />
      </ul>
    </nav>
  );
}

interface BranchProps {
  project: string;
  path: string;
  name: string;
  shown: string;
  at: string;
  depth: number;
}

function Branch({ project, path, name, shown, at, depth }: BranchProps) {
  const on = shown === path;
  const above = path === "" || shown.startsWith(`${path}/`);
  const [chosen, setOpen] = useState<boolean>();
  const open = chosen ?? (above || on);
  const below = useQuery({
    queryKey: ["project", project, "folder", path, at ? `at=${at}` : "", "below"],
    enabled: open,
    staleTime: 60_000,
    queryFn: () =>
      ask(api.GET("/projects/{project}/folder", { params: { path: { project }, query: { path, limit: 1, ...(at && { at }) } } })),
  });
  const folders = below.data?.folders ?? [];
  const keys = (e: KeyboardEvent) => {
    if (e.key === "ArrowRight" && !open) setOpen(true);
    else if (e.key === "ArrowLeft" && open) setOpen(false);
    else return;
    e.preventDefault();
  };
  return (
    <li>
      <span className={`flex items-center ${on ? "bg-bank font-semibold" : ""}`} style={{ paddingLeft: `${depth * 0.8}rem` }}>
        {path !== "" && (
          <button
            type="button"
            tabIndex={-1}
            onClick={() => setOpen(!open)}
            aria-expanded={open}
            aria-label={`${open ? "Close" : "Open"} ${name}`}
            className="w-5 shrink-0 text-peat hover:text-ink"
          >
            {open ? (folders.length > 0 || below.isPending ? "–" : "") : "+"}
          </button>
        )}
        <Link
          to={folderPath(project, path, at)}
          aria-current={on ? "page" : undefined}
          onKeyDown={keys}
          className="min-w-0 flex-1 truncate py-1 no-underline hover:underline"
        >
          {name}
        </Link>
      </span>
      {open && folders.length > 0 && (
        <ul>
          {folders.slice(0, most).map((f) => (
            <Branch
              key={f.name}
              project={project}
              path={path ? `${path}/${f.name}` : f.name}
              name={f.name}
              shown={shown}
              at={at}
              depth={depth + 1}
            />
          ))}
          {folders.length > most && (
            <li className="py-1 text-xs text-peat" style={{ paddingLeft: `${(depth + 1) * 0.8 + 1.25}rem` }}>
              and {(folders.length - most).toLocaleString("en")} more
            </li>
          )}
        </ul>
      )}
    </li>
  );
}

/** So many folders of one are shown; the page of that folder has all of them. */
const most = 200;
