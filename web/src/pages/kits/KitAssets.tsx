import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Picture } from "../../parts/Picture";
import { assetPath, baseName, comparePath, size } from "../../parts/words";
import { madeBy, useKitState } from "./useKits";

export type KitAsset = Schemas["KitAsset"];

/** Of more assets than these, a dialog or a page shows the first. */
const most = 400;

/** KitSheet is a release in pictures. */
export function KitSheet({ project, assets }: { project: string; assets: KitAsset[] }) {
  return (
    <>
      <ul className="grid grid-cols-[repeat(auto-fill,minmax(min(100%,10.5rem),1fr))] gap-x-4 gap-y-5">
        {assets.slice(0, most).map((a) => (
          <li key={a.path}>
            <Link to={`${assetPath(project, a.path)}?version=${a.version}`} className="block no-underline">
              <Picture project={project} path={a.path} version={a.version} edge={320} className="aspect-square w-full rounded-md" />
              <span className="mt-1 block truncate font-medium" title={a.path}>
                {baseName(a.path)}
              </span>
              <span className="block truncate text-peat">
                {size(a.size)}
                {a.path.includes("/") && `, ${a.path.slice(0, a.path.lastIndexOf("/"))}`}
              </span>
            </Link>
          </li>
        ))}
      </ul>
      {assets.length > most && <p className="mt-3 text-peat">and {(assets.length - most).toLocaleString("en")} more</p>}
    </>
  );
}

/** KitStrip is a glance at a release. */
export function KitStrip({ name, release }: { name: string; release: number }) {
  const { project, kit } = madeBy(name);
  const state = useKitState(project, kit, release);
  const assets = state.data?.assets.filter((a) => a.change !== "gone") ?? [];
  return (
    <span className="mt-2 flex flex-wrap gap-1" aria-hidden>
      {assets.slice(0, 8).map((a) => (
        <Picture key={a.path} project={project} path={a.path} version={a.version} edge={96} className="size-14 rounded-md" />
      ))}
    </span>
  );
}

/** KitAssets are assets that are different in a release, before and after; large ones lead to where they are made. */
export function KitAssets({ project, assets, large = false }: { project: string; assets: KitAsset[]; large?: boolean }) {
  return (
    <>
      <ul className="grid grid-cols-[repeat(auto-fill,minmax(min(100%,22rem),1fr))] gap-x-6 gap-y-3">
        {assets.slice(0, most).map((a) => (
          <li key={a.path}>
            {large ? (
              <Link to={address(project, a)} className="block no-underline">
                <One project={project} asset={a} edge={320} look="size-40" />
              </Link>
            ) : (
              <span className="flex gap-3">
                <One project={project} asset={a} edge={96} look="size-14" />
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

function One({ project, asset: a, edge, look }: { project: string; asset: KitAsset; edge: 96 | 320; look: string }) {
  return (
    <>
      <span className="flex shrink-0 gap-0.5">
        {both(a) && <Picture project={project} path={a.path} version={a.before!} edge={edge} className={`${look} rounded-md`} />}
        <Picture
          project={project}
          path={a.path}
          version={a.version}
          edge={edge}
          className={`${look} rounded-md ${a.change === "gone" ? "opacity-50" : ""}`}
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
