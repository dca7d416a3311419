import { Search } from "lucide-react";
import { useDeferredValue, useState, type DragEvent } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import type { Asset, Schemas } from "../../api/client";
import { fieldClass } from "../../parts/Ask";
import { DropFile } from "../../parts/DropFile";
import { Trouble } from "../../parts/Trouble";
import { folderPath, plural, size } from "../../parts/words";
import { useHere } from "../project/ProjectFrame";
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
  const list = useFolder(here.key, folder, useDeferredValue(search));
  const [dropped, setDropped] = useState<Dropped>();
  const [over, setOver] = useState(false);
  const assets = list.data?.pages.flatMap((p) => p.assets) ?? [];
  const folders = list.data?.pages[0]?.folders ?? [];

  const drop = (e: DragEvent, asset?: Asset) => {
    e.preventDefault();
    e.stopPropagation();
    setOver(false);
    const file = e.dataTransfer.files[0];
    if (file && here.maySend) setDropped({ file, target: asset ?? (folder ? `${folder}/${file.name}` : file.name) });
  };

  return (
    <section
      onDragOver={(e) => {
        e.preventDefault();
        setOver(here.maySend);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e) => drop(e)}
      className={over ? "outline-2 outline-offset-8 outline-copper outline-dashed" : ""}
    >
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-2">
        <Way here={here.key} folder={folder} search={search} />
        <label className="relative ml-auto w-64 max-sm:w-full">
          <Search aria-hidden size={16} className="absolute top-2.5 left-2.5 text-peat" />
          <input
            type="search"
            aria-label="Search in all folders"
            placeholder="Search in all folders"
            className={`${fieldClass} pl-8`}
            value={search}
            onChange={(e) => setParams(e.target.value ? { search: e.target.value } : {}, { replace: true })}
          />
        </label>
      </div>
      <Trouble error={list.error} />
      {!search && folders.length > 0 && <Shelves here={here.key} folder={folder} folders={folders} />}
      {list.isSuccess && assets.length === 0 && (folders.length === 0 || search) && (
        <p className="py-8 text-peat">{search ? `No path has “${search}” in it.` : here.maySend ? "Nothing here yet. Drop a file to send it." : "Nothing here yet."}</p>
      )}
      {assets.length > 0 && (
        <AssetTable here={here} assets={assets} fullPaths={search !== ""} onDrop={drop} onEnd={() => list.hasNextPage && !list.isFetching && void list.fetchNextPage()} />
      )}
      {dropped && <DropFile here={here} file={dropped.file} target={dropped.target} onClose={() => setDropped(undefined)} />}
    </section>
  );
}

/** Way is where one is: the project, and each folder down to this one. */
function Way({ here, folder, search }: { here: string; folder: string; search: string }) {
  const parts = folder ? folder.split("/") : [];
  if (search) return <h1>Found</h1>;
  return (
    <h1 className="flex flex-wrap gap-x-2">
      {parts.length === 0 ? "Assets" : <Link to={folderPath(here, "")}>Assets</Link>}
      {parts.map((name, i) => (
        <span key={i} className="flex gap-x-2">
          <span className="text-peat" aria-hidden>/</span>
          {i === parts.length - 1 ? name : <Link to={folderPath(here, parts.slice(0, i + 1).join("/"))}>{name}</Link>}
        </span>
      ))}
    </h1>
  );
}

function Shelves({ here, folder, folders }: { here: string; folder: string; folders: Schemas["Folder"][] }) {
  return (
    <ul className="mb-5 grid grid-cols-[repeat(auto-fill,minmax(12rem,1fr))] gap-2" aria-label="Folders">
      {folders.map((f) => (
        <li key={f.name}>
          <Link to={folderPath(here, folder ? `${folder}/${f.name}` : f.name)} className="block border-b-2 border-line bg-bank px-3 py-2 no-underline hover:border-copper">
            <span className="font-semibold">{f.name}</span>
            <span className="block text-xs text-peat">{plural(f.assets, "asset")}, {size(f.size)}</span>
          </Link>
        </li>
      ))}
    </ul>
  );
}
