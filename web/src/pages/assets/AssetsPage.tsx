import { Search } from "lucide-react";
import { useDeferredValue, useState, type DragEvent } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { archiveAddress, prefix, type Asset, type Schemas } from "../../api/client";
import { firstBranch } from "../../api/words.gen";
import { fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { DropFile } from "../../parts/DropFile";
import { GoBack } from "../../parts/GoBack";
import { Trouble } from "../../parts/Trouble";
import { folderPath, plural, size } from "../../parts/words";
import { branchPath, useBranches } from "../branches/useBranches";
import { useHere, type Here } from "../project/ProjectFrame";
import { AssetTable } from "./AssetTable";
import { useFolder } from "./useFolder";

interface Dropped {
  file: File;
  target: Asset | string;
}

export function AssetsPage() {
  const here = useHere();
  const folder = useParams()["*"] ?? "";
  const [params, setParams] = useSearchParams();
  const search = params.get("search") ?? "";
  const at = params.get("at") ?? "";
  const list = useFolder(here.key, folder, useDeferredValue(search), at);
  const [dropped, setDropped] = useState<Dropped>();
  const [over, setOver] = useState(false);
  const assets = list.data?.pages.flatMap((p) => p.assets) ?? [];
  const folders = list.data?.pages[0]?.folders ?? [];

  const maySend = here.maySend && !at; // the past is looked at, not changed

  const drop = (e: DragEvent, asset?: Asset) => {
    e.preventDefault();
    e.stopPropagation();
    setOver(false);
    const file = e.dataTransfer.files[0];
    if (file && maySend) setDropped({ file, target: asset ?? (folder ? `${folder}/${file.name}` : file.name) });
  };

  return (
    <section
      onDragOver={(e) => {
        e.preventDefault();
        setOver(maySend);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e) => drop(e)}
      className={over ? "outline-2 outline-offset-8 outline-copper outline-dashed" : ""}
    >
      {at && <AsOf here={here} at={at} number={list.data?.pages[0]?.at} folder={folder} />}
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-2">
        <Way here={here.key} folder={folder} search={search} at={at} />
        <label className="relative ml-auto w-64 max-sm:w-full">
          <Search aria-hidden size={16} className="absolute top-2.5 left-2.5 text-peat" />
          <input
            type="search"
            aria-label="Search in all folders"
            placeholder="Search in all folders"
            className={`${fieldClass} pl-8`}
            value={search}
            onChange={(e) => setParams({ ...(e.target.value && { search: e.target.value }), ...(at && { at }) }, { replace: true })}
          />
        </label>
      </div>
      <Trouble error={list.error} />
      {!search && folders.length > 0 && <Shelves here={here.key} folder={folder} folders={folders} at={at} />}
      {list.isSuccess && assets.length === 0 && (folders.length === 0 || search) && (
        <p className="py-8 text-peat">{search ? `No path has “${search}” in it.` : maySend ? "Nothing here yet. Drop a file to send it." : "Nothing here yet."}</p>
      )}
      {assets.length > 0 && (
        <AssetTable here={here} at={at} assets={assets} fullPaths={search !== ""} onDrop={drop} onEnd={() => list.hasNextPage && !list.isFetching && void list.fetchNextPage()} />
      )}
      {!search && (assets.length > 0 || folders.length > 0) && (
        <p className="mt-4 text-peat">
          <a href={`${prefix}/projects/${here.key}/assets.csv?${new URLSearchParams({ ...(folder && { scope: folder }), ...(at && { at }) })}`} download>{folder ? `All below ${folder}` : "All assets"} as a spreadsheet (CSV)</a>
        </p>
      )}
      {dropped && <DropFile here={here} file={dropped.file} target={dropped.target} onClose={() => setDropped(undefined)} />}
    </section>
  );
}

/** AsOf says that the past, or a branch, is shown, and what can be had of it. */
function AsOf({ here, at, number, folder }: { here: Here; at: string; number: number | undefined; folder: string }) {
  const [back, setBack] = useState(false);
  const branches = useBranches(here.key);
  const branch = branches.data?.branches.find((b) => b.name === at);
  const name = number === undefined || at === `h${number}` ? at : `${at} (h${number})`;
  return (
    <div role="status" className="mb-5 flex flex-wrap items-center gap-x-5 gap-y-1 border-l-2 border-ice bg-ice-wash px-3 py-2">
      <strong className="font-semibold">{branch ? <>On the branch <Link to={branchPath(here.key, branch.name)}>{branch.name}</Link></> : <>As it was at {number ? <Link to={`/p/${here.key}/handoffs/${number}`}>{name}</Link> : name}</>}</strong>
      <a href={archiveAddress(here.key, at, folder, "zip")} download>{folder || "All of it"} as a ZIP file</a>
      <a href={archiveAddress(here.key, at, folder, "tar")} download>as a tar file</a>
      {here.maySend && !branch && <Button kind="quiet" onClick={() => setBack(true)}>Bring {folder || "all of it"} back</Button>}
      <Link to={folderPath(here.key, folder)}>{branch ? `On ${firstBranch}` : "As it is now"}</Link>
      {back && <GoBack here={here} title={`Bring ${folder || "the whole project"} back to ${name}?`} back={folder ? { paths: [folder], to: at } : { all: true, to: at }} onClose={() => setBack(false)} />}
    </div>
  );
}

/** Way is where one is: the project, and each folder down to this one. */
function Way({ here, folder, search, at }: { here: string; folder: string; search: string; at: string }) {
  const parts = folder ? folder.split("/") : [];
  if (search) return <h1>Found</h1>;
  return (
    <h1 className="flex flex-wrap gap-x-2">
      {parts.length === 0 ? "Assets" : <Link to={folderPath(here, "", at)}>Assets</Link>}
      {parts.map((name, i) => (
        <span key={i} className="flex gap-x-2">
          <span className="text-peat" aria-hidden>/</span>
          {i === parts.length - 1 ? name : <Link to={folderPath(here, parts.slice(0, i + 1).join("/"), at)}>{name}</Link>}
        </span>
      ))}
    </h1>
  );
}

function Shelves({ here, folder, folders, at }: { here: string; folder: string; folders: Schemas["Folder"][]; at: string }) {
  return (
    <ul className="mb-5 grid grid-cols-[repeat(auto-fill,minmax(12rem,1fr))] gap-2" aria-label="Folders">
      {folders.map((f) => (
        <li key={f.name}>
          <Link to={folderPath(here, folder ? `${folder}/${f.name}` : f.name, at)} className="block border-b-2 border-line bg-bank px-3 py-2 no-underline hover:border-copper">
            <span className="font-semibold">{f.name}</span>
            <span className="block text-xs text-peat">{plural(f.assets, "asset")}, {size(f.size)}</span>
          </Link>
        </li>
      ))}
    </ul>
  );
}
