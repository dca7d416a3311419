import { Link } from "react-router";
import { assetPath } from "../../parts/words";
import type { Here } from "../project/ProjectFrame";
import { isBehind, kitPath, madeBy, useKits, type KitUse } from "./useKits";

const lies = (path: string, dir: string) => path.toLowerCase().startsWith(`${dir.toLowerCase()}/`);

/** FromKit says of an asset that it came from a kit, and what becomes of a change of it. */
export function FromKit({ here, path }: { here: Here; path: string }) {
  const kits = useKits(here.key);
  const use = kits.data?.uses.find((u) => lies(path, u.dir));
  if (!use || path.toLowerCase() === `${use.dir.toLowerCase()}/tarn.kit`) return null;
  const below = path.slice(use.dir.length + 1);
  const { project, kit } = madeBy(use.kit);
  const changed = use.changed.some((p) => p.toLowerCase() === below.toLowerCase());
  return (
    <p className="mt-1 max-w-prose border-l-3 border-ice pl-3 text-peat">
      {use.dir} is the kit{" "}
      {use.newest ? (
        <Link to={kitPath(project, kit, use.release)}>
          {use.kit}@{use.release}
        </Link>
      ) : (
        `${use.kit}@${use.release}`
      )}
      .{" "}
      {changed
        ? "This was changed here, and stays as it is when the kit is brought anew."
        : "What you change here stays so, and does not follow the kit any more."}{" "}
      {!!use.newest && (
        <>
          To change it for everybody, <Link to={assetPath(project, below)}>change it in {project}</Link>
          {changed && (
            <>
              , or <Link to={`/p/${here.key}/kits`}>offer what you made</Link>
            </>
          )}
          .
        </>
      )}
    </p>
  );
}

/** BehindList are uses with the release that they have and the one that there is. */
export const BehindList = ({ project, uses }: { project: string; uses: KitUse[] }) => (
  <ul className="divide-y divide-line">
    {uses.map((u) => (
      <li key={u.dir} className="py-2">
        <Link to={`/p/${project}/kits`} className="font-medium break-all">
          {u.dir}
        </Link>
        <span className="block text-peat">
          {u.kit}@{u.release}; the latest is @{u.newest}
        </span>
      </li>
    ))}
  </ul>
);

/** KitsBehind are the uses that follow a kit of which there is a later release. */
export function KitsBehind({ here }: { here: Here }) {
  const kits = useKits(here.key);
  const behind = kits.data?.uses.filter((u: KitUse) => isBehind(u) && !u.stay) ?? [];
  if (behind.length === 0) return null;
  return (
    <section aria-labelledby="kits-behind" className="mt-8">
      <h2 id="kits-behind" className="mb-2">
        Kits of which there is a later release
      </h2>
      <BehindList project={here.key} uses={behind} />
    </section>
  );
}
