import type { Workspace } from "../../api/desk";
import type { Asset, Progress } from "../../api/desk.gen";
import { Link } from "react-router";
import { Button } from "../../parts/Button";
import { Picture } from "../../parts/Picture";
import { assetPath, firstLine, plural, size } from "../../parts/words";
import { BehindList } from "../kits/FromKit";
import { Bar } from "./Going";
import { useWork } from "./useWork";
import { Refused } from "./WaysOut";

/** Newer is what came in and is not on this machine yet. */
export function Newer({ w, list }: { w: Workspace; list: Asset[] }) {
  const update = useWork("update");
  if (list.length === 0 && !update.error && !update.data?.refusals.length) return null;
  const bytes = list.reduce((n, a) => n + (a.gone ? 0 : a.size), 0);
  return (
    <section aria-label="Newer there">
      <div className="mb-1 flex flex-wrap items-center gap-3">
        <h3 className="text-lg">
          Came in{" "}
          <span className="font-normal text-peat">
            {plural(list.length, "asset")}, {size(bytes)}
          </span>
        </h3>
        <Button
          kind="act"
          className="ml-auto"
          disabled={update.isPending || list.length === 0}
          onClick={() => update.mutate({ workspace: w.workspace })}
        >
          Bring {list.length === 1 ? "it" : "them"} here
        </Button>
      </div>
      {update.isPending && <Far progress={update.progress} />}
      <Refused w={w} error={update.error} />
      {update.data?.refusals.map((r) => (
        <p key={r.path} className="text-rust wrap-anywhere">
          {r.message}
        </p>
      ))}
      <ul className="divide-y divide-line">
        {list.slice(0, 12).map((a) => (
          <li key={a.path} className="flex items-center gap-3 py-2">
            <Picture project={w.project} path={a.path} version={a.newest} edge={96} className="size-10 shrink-0 rounded-md" />
            <span className="min-w-0 flex-1">
              <Link to={assetPath(w.project, a.path)} className="font-medium break-all">
                {a.path}
              </Link>
              <span className="block text-peat">
                {a.gone ? (a.moved_to ? `moved to ${a.moved_to} by ${a.author}` : `removed by ${a.author}`) : `v${a.newest} by ${a.author}`}
                {a.note && `: ${firstLine(a.note)}`}
              </span>
            </span>
          </li>
        ))}
      </ul>
      {list.length > 12 && <p className="mt-1 text-peat">and {(list.length - 12).toLocaleString("en")} more</p>}
    </section>
  );
}

/** KitsNewer are the kits of which there is a later release. */
export function KitsNewer({ w }: { w: Workspace }) {
  const list = w.kits_behind ?? [];
  if (list.length === 0) return null;
  return (
    <section aria-label="Kits">
      <h3 className="mb-1 text-lg">Kits of which there is a later release</h3>
      <BehindList project={w.project} uses={list} />
    </section>
  );
}

/** ByItself says whether what is newer comes without being asked for. */
export function ByItself({ w }: { w: Workspace }) {
  const settings = useWork("settings");
  return (
    <label className="flex items-center gap-2 text-peat">
      <input
        type="checkbox"
        className="size-4 accent-copper"
        checked={w.auto_update}
        disabled={settings.isPending}
        onChange={(e) => settings.mutate({ workspace: w.workspace, auto_update: e.target.checked })}
      />
      Bring what is newer by itself, where nothing clashes
    </label>
  );
}

/** Far is how far long work is. */
export function Far({ progress: p }: { progress: Progress | undefined }) {
  return (
    <div role="status" className="mb-2">
      <span className="text-peat">
        {p?.title ?? "It begins"} {p && p.total > 0 && `${size(p.done)} of ${size(p.total)}`}
      </span>
      <Bar part={p && p.total > 0 ? p.done / p.total : 0} label={p?.title ?? "Under way"} />
    </div>
  );
}
