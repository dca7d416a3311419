import { useQuery } from "@tanstack/react-query";
import { Download, RotateCcw } from "lucide-react";
import { memo, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { Doing } from "../../acts/Many";
import { Choose } from "../../sending/Choose";
import type { Given } from "../../sending/prepare";
import { api, ask, fileAddress, inProject, type Asset, type Schemas, type Version } from "../../api/client";
import { useLock } from "../../api/locks";
import { pageSize, useRows, type Rows } from "../../api/rows";
import { Button } from "../../parts/Button";
import { GoBack } from "../../parts/GoBack";
import { Holder } from "../../parts/Holder";
import { Labels } from "../../parts/Labels";
import { Line } from "../../parts/Line";
import { List } from "../../parts/List";
import { LockButtons } from "../../parts/LockControl";
import { Picture } from "../../parts/Picture";
import { Trouble } from "../../parts/Trouble";
import { useTitle } from "../../parts/title";
import { Unsent } from "../../parts/Unsent";
import { assetPath, baseName, comparePath, firstLine, folderPath, grown, size, When } from "../../parts/words";
import { Marks } from "../locks/Board";
import { LooksLike, SameAs } from "../find/Twice";
import { useBranches } from "../branches/useBranches";
import { FromKit } from "../kits/FromKit";
import { BeginHere } from "../desk/BeginHere";
import { TakeFiles } from "../desk/PutHere";
import { useHere, type Here } from "../project/ProjectFrame";
import { ShowOutside } from "../showings/ShowOutside";
import { Shown } from "./Shown";

export function AssetPage() {
  const here = useHere();
  const path = useParams()["*"] ?? "";
  const [params] = useSearchParams();
  const at = params.get("at") ?? "";
  const branches = useBranches(here.key, at !== "");
  const branch = branches.data?.branches.find((b) => b.name === at)?.name ?? "";
  const found = useRows<Version, Schemas["AssetHistory"]>({
    queryKey: ["project", here.key, "asset", path, branch],
    enabled: at === "" || !branches.isPending,
    fetch: (skip, limit) =>
      ask(
        api.GET("/projects/{project}/asset", {
          params: { path: { project: here.key }, query: { path, skip, limit, ...(branch && { branch }) } },
        }),
      ),
    rows: (h) => h.versions,
    total: (h) => h.total,
  });
  const [dropped, setDropped] = useState<Given[]>();
  useTitle(baseName(path));
  // Versions are numbered from 1 on, the newest first: where one stands is known without those before it.
  const wanted = Number(params.get("version"));
  const total = found.first?.total ?? 0;
  const place = wanted >= 1 && wanted <= total ? total - wanted : -1;
  const far = useQuery({
    queryKey: ["project", here.key, "asset", path, branch, Math.floor(place / pageSize)],
    enabled: place >= pageSize,
    queryFn: () =>
      ask(
        api.GET("/projects/{project}/asset", {
          params: {
            path: { project: here.key },
            query: { path, skip: Math.floor(place / pageSize) * pageSize, limit: pageSize, ...(branch && { branch }) },
          },
        }),
      ),
  });
  if (!found.first || (found.first.asset.path.toLowerCase() !== path.toLowerCase() && found.pending))
    return <Trouble error={found.error} />;
  const { asset, versions } = found.first;
  if (place >= pageSize && !far.data) return <Trouble error={far.error} />;
  const shown =
    [...versions, ...(far.data?.versions ?? [])].find((v) => v.version === wanted) ??
    versions.find((v) => v.version === asset.newest) ??
    versions.find((v) => !v.gone) ??
    versions[0]!;
  const mayDrop = here.maySend && !branch && asset.holder === here.me && !asset.gone;
  return (
    <section
      onDragOver={(e) => mayDrop && e.preventDefault()}
      onDrop={(e) => {
        if (!mayDrop) return;
        e.preventDefault();
        setDropped([...e.dataTransfer.files].map((file) => ({ file, path: file.name })));
      }}
    >
      <Heading here={here} asset={asset} at={at} branch={branch} onFile={setDropped} mayDrop={mayDrop} />
      <div className="grid gap-x-8 gap-y-6 lg:grid-cols-[minmax(0,3fr)_minmax(22rem,2fr)]">
        <figure className="min-w-0">
          {shown.gone ? (
            <p className="bg-bank p-10 text-center text-peat">It was removed in this version.</p>
          ) : (
            <Shown here={here} path={asset.path} version={shown.version} />
          )}
          <figcaption className="mt-2 text-peat">
            Version {shown.version} by {shown.author}, <When at={shown.at} />, {size(shown.size)}
            {shown.version === asset.newest && ", the newest"}
          </figcaption>
          {!branch && !shown.gone && (
            <p className="mt-2 -ml-2.5">
              <ShowOutside
                here={here}
                kind="quiet"
                show={{
                  what: { path: asset.path, version: shown.version },
                  words: `version ${shown.version} of ${baseName(asset.path)}`,
                }}
              />
            </p>
          )}
          {!branch && !asset.gone && (
            <>
              <SameAs here={here} path={asset.path} />
              <LooksLike here={here} path={asset.path} />
            </>
          )}
        </figure>
        <Versions here={here} asset={asset} branch={branch} list={found} shown={shown} />
      </div>
      {dropped && <TakeFiles here={here} files={dropped.slice(0, 1)} folder="" target={asset} onClose={() => setDropped(undefined)} />}
    </section>
  );
}

function Heading({
  here,
  asset,
  at,
  branch,
  mayDrop,
  onFile,
}: {
  here: Here;
  asset: Asset;
  at: string;
  branch: string;
  mayDrop: boolean;
  onFile: (f: Given[]) => void;
}) {
  const navigate = useNavigate();
  const [doing, setDoing] = useState<"rename" | "remove">();
  const lock = useLock(here.key, asset.path).data ?? undefined;
  const folder = asset.path.includes("/") ? asset.path.slice(0, asset.path.lastIndexOf("/")) : "";
  return (
    <div className="mb-5 flex flex-wrap items-end gap-x-6 gap-y-3">
      <div className="min-w-0">
        <Link to={folderPath(here.key, folder, at)} className="text-peat">
          {folder || "Assets"}
        </Link>
        <h1 className="break-all">{baseName(asset.path)}</h1>
        <p className="mt-1">
          <Holder lock={lock?.holder ? lock : undefined} me={here.me} long />
        </p>
        {lock && (
          <>
            <Marks lock={lock} />
            <Line lock={lock} me={here.me} />
          </>
        )}
        {asset.heads_up?.map((h) => (
          <p key={h.workspace_id} className="text-ice">
            <Unsent head={h} me={here.me} />
          </p>
        ))}
        {!branch && !asset.gone && <FromKit here={here} path={asset.path} />}
      </div>
      <div className="ml-auto flex flex-wrap gap-2">
        {mayDrop && (
          <Choose label="File of the new version" takes="file" kind="act" onFiles={onFile}>
            Send a new version
          </Choose>
        )}
        {!branch && !at && here.maySend && !asset.gone && <BeginHere project={here.key} path={asset.path} />}
        {!branch && <LockButtons here={here} asset={asset} lock={lock} />}
        {!branch && !at && here.maySend && !asset.gone && (
          <>
            <Button onClick={() => setDoing("rename")}>Rename</Button>
            <Button onClick={() => setDoing("remove")}>Remove</Button>
          </>
        )}
        {doing && (
          <Doing
            here={here}
            name={doing}
            assets={[{ ...asset, ...(lock && { lock }) }]}
            onClose={() => setDoing(undefined)}
            onDone={(place) => place && void navigate(assetPath(here.key, place), { replace: true })}
          />
        )}
      </div>
    </div>
  );
}

interface VersionsProps {
  here: Here;
  asset: Asset;
  branch: string;
  list: Rows<Version>;
  shown: Version;
}

function Versions({ here, asset, branch, list, shown }: VersionsProps) {
  const [back, setBack] = useState<Version>();
  return (
    <div>
      <div className="mb-2 flex items-baseline gap-4">
        <h2>
          Versions <span className="font-normal text-peat">{(list.total ?? 0).toLocaleString("en")}</span>
        </h2>
        <a className="ml-auto text-peat" href={inProject(here.key, "asset.csv", { path: asset.path })} download>
          As a spreadsheet (CSV)
        </a>
      </div>
      <List
        rows={list}
        height={94}
        measured
        label="Versions"
        className="border-t border-line"
        row={(v, i) => (
          <One
            here={here}
            asset={asset}
            branch={branch}
            version={v}
            before={list.at(i + 1)}
            on={v.version === shown.version}
            onBack={setBack}
          />
        )}
      />
      {back && (
        <GoBack
          here={here}
          title={`Go back to version ${back.version}?`}
          back={{ paths: [asset.path], version: back.version }}
          {...(asset.lock?.holder === here.me && { seat: asset.lock.workspace_id })}
          onClose={() => setBack(undefined)}
        />
      )}
    </div>
  );
}

interface OneProps {
  here: Here;
  asset: Asset;
  branch: string;
  version: Version;
  before: Version | undefined;
  on: boolean;
  onBack: (v: Version) => void;
}

const One = memo(function One({ here, asset, branch, version: v, before, on, onBack }: OneProps) {
  const grew = before && !before.gone && !v.gone ? v.size - before.size : 0;
  return (
    <div className={`flex gap-3 border-b border-line px-2 py-2.5 ${on ? "bg-bank" : ""}`}>
      <Picture project={here.key} path={asset.path} version={v.version} edge={96} className="size-12 shrink-0 rounded-md" />
      <div className="min-w-0 flex-1">
        <Link
          to={`?${new URLSearchParams({ version: String(v.version), ...(branch && { at: branch }) })}`}
          replace
          aria-current={on}
          className="font-medium wrap-anywhere"
        >
          v{v.version} {firstLine(v.note)}
        </Link>{" "}
        <Labels handoff={v} />
        <p className="text-peat">
          {v.author}, <When at={v.at} />, {v.gone ? "removed" : size(v.size)}
          {grew !== 0 && ` (${grown(grew)})`}, <Link to={`/p/${here.key}/handoffs/${v.handoff}`}>h{v.handoff}</Link>
          {before && before.path !== v.path && <span className="block break-all">moved from {before.path}</span>}
        </p>
        {!v.gone && (
          <p className="text-peat">
            {before && !before.gone && (
              <Link to={comparePath(here.key, asset.path, before.version, asset.path, v.version)} className="mr-4">
                Compare with v{before.version}
              </Link>
            )}
            {v.version !== asset.newest && !asset.gone && (
              <Link to={comparePath(here.key, asset.path, v.version, asset.path, asset.newest)}>With the newest</Link>
            )}
          </p>
        )}
      </div>
      {!v.gone && (
        <div className="flex w-18 shrink-0 items-start gap-1">
          <a
            href={fileAddress(here.key, asset.path, v.version)}
            download
            title={`Download version ${v.version}`}
            className="rounded-md border border-transparent p-1.5 text-peat hover:border-line hover:text-ink"
          >
            <Download size={16} aria-label={`Download version ${v.version}`} />
          </a>
          {here.maySend && !branch && v.version !== asset.newest && (
            <Button kind="quiet" className="px-1.5" title={`Go back to version ${v.version}`} onClick={() => onBack(v)}>
              <RotateCcw size={16} aria-label={`Go back to version ${v.version}`} />
            </Button>
          )}
        </div>
      )}
    </div>
  );
});
