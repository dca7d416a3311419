import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Picture } from "../../parts/Picture";
import { assetPath, comparePath, size } from "../../parts/words";

export type KitAsset = Schemas["KitAsset"];

/** Of more assets than these, a dialog or a page shows the first. */
const most = 400;

/** KitAssets are assets of a release as pictures, with what is different in each. They are looked at where they are made. */
export function KitAssets({ project, assets, linked = true }: { project: string; assets: KitAsset[]; linked?: boolean }) {
  return (
    <>
      <ul className="grid grid-cols-[repeat(auto-fill,minmax(min(100%,18rem),1fr))] gap-x-6 gap-y-3">
        {assets.slice(0, most).map((a) => (
          <li key={a.path}>
            {linked ? (
              <Link to={address(project, a)} className="flex gap-3 no-underline">
                <One project={project} asset={a} />
              </Link>
            ) : (
              <span className="flex gap-3">
                <One project={project} asset={a} />
              </span>
            )}
          </li>
        ))}
      </ul>
      {assets.length > most && <p className="mt-3 text-peat">and {(assets.length - most).toLocaleString("en")} more</p>}
    </>
  );
}

const both = (a: KitAsset) => !!a.before && a.change !== "gone" && a.before !== a.version;

const address = (project: string, a: KitAsset) =>
  both(a) ? comparePath(project, a.path, a.before!, a.path, a.version) : `${assetPath(project, a.path)}?version=${a.version}`;

function One({ project, asset: a }: { project: string; asset: KitAsset }) {
  return (
    <>
      <span className="flex shrink-0 gap-0.5">
        {both(a) && <Picture project={project} path={a.path} version={a.before!} edge={96} className="size-14 rounded-md" />}
        <Picture
          project={project}
          path={a.path}
          version={a.version}
          edge={96}
          className={`size-14 rounded-md ${a.change === "gone" ? "opacity-50" : ""}`}
        />
      </span>
      <span className="min-w-0">
        <span className="font-medium break-all">{a.path}</span>
        <span className="block text-peat">
          {a.change && `${a.change}${a.was ? ` from ${a.was}` : ""}, `}
          {both(a) && `v${a.before} to v${a.version}, `}
          {size(a.size)}
        </span>
      </span>
    </>
  );
}
