import { useMe } from "../../api/me";
import { atDesk, useDesk } from "../../api/desk";
import { Button } from "../../parts/Button";
import { useWork } from "./useWork";
import { Refused } from "./WaysOut";

/** BeginHere begins an asset on this machine: the newest version, the lock, and its program. Elsewhere it leads to one's desk. */
export function BeginHere({ project, path }: { project: string; path: string }) {
  if (!atDesk) return <AtMyDesk project={project} path={path} />;
  return <Begin project={project} path={path} />;
}

function Begin({ project, path }: { project: string; path: string }) {
  const list = useDesk().workspaces.filter((w) => w.project === project);
  const begin = useWork("begin");
  return (
    <>
      {list.map((w) => (
        <Button
          key={w.workspace}
          kind="act"
          disabled={begin.isPending}
          title="The newest version, the lock, and its program"
          onClick={() => begin.mutate({ workspace: w.workspace, paths: [path], open: true })}
        >
          Begin{list.length > 1 && ` in ${w.folder.split(/[\\/]/).at(-1)}`}
        </Button>
      ))}
      {begin.isSuccess && begin.data.locks.length > 0 && (
        <p role="status" className="order-last w-full text-right text-ice">
          It is yours{begin.data.opened.length > 0 ? ", and opens in its program" : ""}.
        </p>
      )}
      {begin.data?.heads_up.map((h) => (
        <p key={h.workspace_id} className="order-last w-full text-right text-ice">
          {h.handle} has changes to it that were not sent.
        </p>
      ))}
      {list[0] && (
        <div className="order-last w-full empty:hidden">
          <Refused w={list[0]} error={begin.error} />
          {begin.data?.refusals.map((r) => (
            <p key={r.path + r.reason} className="text-rust">
              {r.message}
            </p>
          ))}
        </div>
      )}
    </>
  );
}

/** A link of the scheme tarn: opens the desk of whoever has one, at the same page. */
export const deskLink = (page: string) => `tarn:open?${new URLSearchParams({ service: location.origin, page })}`;

function AtMyDesk({ project, path }: { project: string; path: string }) {
  const me = useMe();
  if (!me.data) return null;
  return (
    <a
      className="rounded-md border border-edge px-2.5 py-1 text-sm font-medium no-underline hover:border-copper"
      href={deskLink(`/p/${project}/asset/${path.split("/").map(encodeURIComponent).join("/")}`)}
      title="Where Kettle Tarn is installed on this machine, it opens there, ready to begin"
    >
      At my desk
    </a>
  );
}
