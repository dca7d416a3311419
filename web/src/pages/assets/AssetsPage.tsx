import { ArrowDownUp, LayoutGrid, Rows3, SlidersHorizontal } from "lucide-react";
import { useCallback, useState, type DragEvent, type ReactNode } from "react";
import { Link, useParams } from "react-router";
import { Choose } from "../../sending/Choose";
import { filesOf, type Given } from "../../sending/prepare";
import { unfinished } from "../../sending/unfinished";
import { outcomes } from "../../acts/outcomes";
import { Many } from "../../acts/Many";
import { archiveAddress, prefix, type Asset, type Schemas } from "../../api/client";
import { useMembers } from "../../api/members";
import { assetKinds, firstBranch, orders } from "../../api/words.gen";
import { useAddress } from "../../parts/address";
import { fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Choice } from "../../parts/Choice";
import { GoBack } from "../../parts/GoBack";
import { Trouble } from "../../parts/Trouble";
import { useTitle } from "../../parts/title";
import { Typed } from "../../parts/Typed";
import { folderPath, plural, size } from "../../parts/words";
import { branchPath, useBranches } from "../branches/useBranches";
import { TakeFiles, usePutsHere } from "../desk/PutHere";
import { useHere, type Here } from "../project/ProjectFrame";
import { AssetSheet } from "./AssetSheet";
import { AssetTable } from "./AssetTable";
import { most, useChosen } from "./chosen";
import { FolderTree } from "./FolderTree";
import { Views } from "./Views";
import { filtered, filters, listingOf, useListing, type Listing } from "./listing";

interface Dropped {
  files: Given[];
  target?: Asset | undefined;
}

const edges = [96, 128, 176, 240, 320, 440];

export function AssetsPage() {
  const here = useHere();
  const folder = useParams()["*"] ?? "";
  const [params, set] = useAddress();
  const listing = listingOf(params);
  const at = listing.at ?? "";
  const assets = useListing(here.key, folder, listing);
  const [dropped, setDropped] = useState<Dropped>();
  const [over, setOver] = useState(false);
  const [, forget] = useState({});
  const before = unfinished.of(here.key);
  const folders = assets.first?.folders ?? [];
  const sheet = params.get("view") === "pictures";
  const edge = edges.find((e) => e === Number(params.get("edge"))) ?? 176;
  const narrowed = filtered(listing);
  useTitle(folder || "Assets");
  const { order: by = "name", down = "", ...shown } = listing;
  const chosen = useChosen(assets, `${folder}?${new URLSearchParams(shown)}`);

  const putsHere = usePutsHere(here.key).length > 0;
  const maySend = here.maySend && !at; // the past is looked at, not changed
  const order = useCallback(
    (name: string) => set({ order: name === "name" ? "" : name, down: name === by && !down ? "true" : "" }),
    [set, by, down],
  );
  const drop = useCallback(
    (e: DragEvent, target?: Asset) => {
      e.preventDefault();
      e.stopPropagation();
      setOver(false);
      if (!maySend) return;
      filesOf(e.dataTransfer)
        .then((files) => files.length > 0 && setDropped({ files, target }))
        .catch((error: unknown) => outcomes.failed({ what: "drop", error }));
    },
    [maySend],
  );

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
      {before && !dropped && maySend && !putsHere && (
        <p role="status" className="mb-4 border-l-2 border-copper bg-copper-wash px-3 py-2">
          {plural(before.files, "file")} were on their way when this page was left, and were not handed off. Choose them again: what arrived
          does not travel again.{" "}
          <Button
            kind="quiet"
            onClick={() => {
              unfinished.over(here.key);
              forget({});
            }}
          >
            Not any more
          </Button>
        </p>
      )}
      {at && <AsOf here={here} at={at} number={assets.first?.at} folder={folder} />}
      <div className="mb-4 flex flex-wrap items-center gap-x-5 gap-y-2">
        <Way here={here.key} folder={folder} at={at} />
        <label className="ml-auto w-64 max-sm:w-full">
          <span className="sr-only">Find in {folder || "all folders"}</span>
          <Typed
            type="search"
            placeholder={folder ? "Find below this folder" : "Find in all folders"}
            value={listing.search ?? ""}
            onChange={(search) => set({ search })}
          />
        </label>
        <View sheet={sheet} edge={edge} set={set} />
        {maySend && (
          <>
            <Choose label={`Files to ${putsHere ? "put here" : "send"}`} takes="files" onFiles={(files) => setDropped({ files })}>
              {putsHere ? "Put files here" : "Send files"}
            </Choose>
            <Choose label={`Folder to ${putsHere ? "put here" : "send"}`} takes="folder" onFiles={(files) => setDropped({ files })}>
              {putsHere ? "Put a folder here" : "Send a folder"}
            </Choose>
          </>
        )}
      </div>
      <Filters here={here} listing={listing} set={set} order={order}>
        <Views here={here} folder={folder} params={params} />
      </Filters>
      <div className="grid gap-x-8 lg:grid-cols-[13rem_minmax(0,1fr)]">
        <aside className="max-h-[calc(100dvh-4rem)] overflow-y-auto pr-1 max-lg:hidden lg:sticky lg:top-4 lg:self-start">
          <FolderTree project={here.key} folder={folder} at={at} />
        </aside>
        <div className="min-w-0">
          <Trouble error={assets.error} />
          {narrowed && assets.total !== undefined && (
            <p role="status" className="mb-3 text-peat">
              {assets.total === 0
                ? "Nothing fits."
                : `${assets.more ? "Over " : ""}${plural(assets.total, "asset")} ${folder ? `below ${folder}` : "in all folders"}`}{" "}
              <button
                type="button"
                className="ml-2 underline decoration-line underline-offset-3 hover:text-ink"
                onClick={() => set(Object.fromEntries(filters.map((k) => [k, ""])))}
              >
                Without filters
              </button>
            </p>
          )}
          {!narrowed && folders.length > 0 && <Shelves here={here.key} folder={folder} folders={folders} at={at} />}
          {!narrowed && assets.total === 0 && folders.length === 0 && (
            <p className="py-8 text-peat">
              {maySend
                ? `Nothing here yet. Drop files here, or choose them, to ${putsHere ? "put them into your folder" : "send them"}.`
                : "Nothing here yet."}
            </p>
          )}
          {(assets.total ?? 0) > 0 &&
            (sheet ? (
              <AssetSheet here={here} assets={assets} listing={listing} fullPaths={narrowed} chosen={chosen} edge={edge} />
            ) : (
              <AssetTable
                here={here}
                assets={assets}
                listing={listing}
                fullPaths={narrowed}
                chosen={chosen}
                onOrder={order}
                onDrop={drop}
              />
            ))}
          <Trouble error={chosen.error} />
          <Many here={here} assets={[...chosen.assets.values()]} onNone={chosen.none}>
            {chosen.assets.size < Math.min(assets.total ?? 0, most) && (
              <Button kind="quiet" onClick={chosen.all}>
                Choose all {Math.min(assets.total ?? 0, most).toLocaleString("en")}
              </Button>
            )}
          </Many>
          {!narrowed && ((assets.total ?? 0) > 0 || folders.length > 0) && (
            <p className="mt-4 text-peat">
              <a
                href={`${prefix}/projects/${here.key}/assets.csv?${new URLSearchParams({ ...(folder && { scope: folder }), ...(at && { at }) })}`}
                download
              >
                {folder ? `All below ${folder}` : "All assets"} as a spreadsheet (CSV)
              </a>
            </p>
          )}
        </div>
      </div>
      {dropped && (
        <TakeFiles here={here} files={dropped.files} folder={folder} target={dropped.target} onClose={() => setDropped(undefined)} />
      )}
    </section>
  );
}

type Set = (changes: Record<string, string>) => void;

/** View is how the assets are shown: rows, or pictures as large as one sets. */
function View({ sheet, edge, set }: { sheet: boolean; edge: number; set: Set }) {
  return (
    <div className="flex items-center gap-3">
      <Choice
        label="Shown as"
        options={["rows", "pictures"] as const}
        value={sheet ? "pictures" : "rows"}
        onChange={(v) => set({ view: v === "pictures" ? v : "" })}
        show={(v) =>
          v === "rows" ? (
            <>
              <Rows3 aria-hidden size={15} />
              Rows
            </>
          ) : (
            <>
              <LayoutGrid aria-hidden size={15} />
              Pictures
            </>
          )
        }
      />
      {sheet && (
        <input
          type="range"
          min={0}
          max={edges.length - 1}
          step={1}
          value={edges.indexOf(edge)}
          onChange={(e) => set({ edge: String(edges[Number(e.target.value)]) })}
          aria-label="Size of the pictures"
          aria-valuetext={`${edge} pixels`}
          className="w-28 accent-copper"
        />
      )}
    </div>
  );
}

const MiB = 1 << 20;
const sizes: [string, string, string][] = [
  ["", "any size", ""],
  ["", "under 1 MiB", String(MiB)],
  [String(MiB), "1 MiB or more", ""],
  [String(16 * MiB), "16 MiB or more", ""],
  [String(256 * MiB), "256 MiB or more", ""],
];

/** Filters are what of the assets is shown: each stands in the address. */
interface FiltersProps {
  here: Here;
  listing: Listing;
  set: Set;
  order: (name: string) => void;
  children: ReactNode;
}

function Filters({ here, listing: l, set, order, children }: FiltersProps) {
  const members = useMembers(here.key);
  const count = filters.filter((k) => k !== "search" && l[k]).length;
  const [open, setOpen] = useState(count > 0);
  if (l.at) return null; // what was knows the order of names alone
  const choice = (label: string, value: string, options: [value: string, words: string][], change: (v: string) => void): ReactNode => (
    <label>
      <span className="mb-0.5 block text-xs text-peat">{label}</span>
      <select className={fieldClass} value={value} onChange={(e) => change(e.target.value)}>
        {options.map(([v, words]) => (
          <option key={v} value={v}>
            {words}
          </option>
        ))}
      </select>
    </label>
  );
  const bounds = Math.max(
    0,
    sizes.findIndex(([least, , most]) => least === (l.least ?? "") && most === (l.most ?? "")),
  );
  return (
    <div className="mb-4">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <Button kind="quiet" aria-expanded={open} aria-controls="filters" onClick={() => setOpen(!open)} className="-ml-2.5">
          <SlidersHorizontal aria-hidden size={15} />
          Filters{count > 0 && ` (${count})`}
        </Button>
        <label className="flex items-center gap-2 text-sm whitespace-nowrap text-peat">
          Sorted by
          <select className={`${fieldClass} w-auto py-0.5`} value={l.order ?? "name"} onChange={(e) => order(e.target.value)}>
            {orders.map((o) => (
              <option key={o}>{o}</option>
            ))}
          </select>
        </label>
        <Button kind="quiet" onClick={() => set({ down: l.down ? "" : "true" })} aria-pressed={!!l.down}>
          <ArrowDownUp aria-hidden size={15} />
          The other way round
        </Button>
        {children}
      </div>
      <form
        id="filters"
        hidden={!open}
        onSubmit={(e) => e.preventDefault()}
        aria-label="Filters"
        className={open ? "mt-2 flex flex-wrap items-end gap-x-3 gap-y-2" : ""}
      >
        {choice("Kind", l.kind ?? "", [["", "any kind"], ...assetKinds.map((k): [string, string] => [k, k])], (kind) => set({ kind }))}
        {choice(
          "Lock",
          l.lock ?? "",
          [
            ["", "any"],
            ["free", "free"],
            [`by:${here.me}`, "mine"],
            ["held", "held by somebody"],
            ["waited", "waited for"],
            ...(members.data?.members ?? [])
              .filter((m) => m.handle !== here.me)
              .map((m): [string, string] => [`by:${m.handle}`, `held by ${m.handle}`]),
          ],
          (lock) => set({ lock }),
        )}
        {choice(
          "Changed by",
          l.author ?? "",
          [["", "anybody"], ...(members.data?.members ?? []).map((m): [string, string] => [m.handle, m.handle])],
          (author) => set({ author }),
        )}
        <label>
          <span className="mb-0.5 block text-xs text-peat">Changed since</span>
          <input type="date" className={fieldClass} value={l.since ?? ""} onChange={(e) => set({ since: e.target.value })} />
        </label>
        {choice(
          "Size",
          String(bounds),
          sizes.map(([, words], i): [string, string] => [String(i), words]),
          (v) => set({ least: sizes[Number(v)]![0], most: sizes[Number(v)]![2] }),
        )}
        {choice(
          "Reviews",
          l.review ?? "",
          [
            ["", "any"],
            ["remarked", "with open remarks"],
            ["settled", "all remarks settled"],
            ["open", "being looked at"],
            ["agreed", "agreed to"],
          ],
          (review) => set({ review }),
        )}
      </form>
    </div>
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
      <strong className="font-semibold">
        {branch ? (
          <>
            On the branch <Link to={branchPath(here.key, branch.name)}>{branch.name}</Link>
          </>
        ) : (
          <>As it was at {number ? <Link to={`/p/${here.key}/handoffs/${number}`}>{name}</Link> : name}</>
        )}
      </strong>
      <a href={archiveAddress(here.key, at, folder, "zip")} download>
        {folder || "All of it"} as a ZIP file
      </a>
      <a href={archiveAddress(here.key, at, folder, "tar")} download>
        as a tar file
      </a>
      {here.maySend && !branch && (
        <Button kind="quiet" onClick={() => setBack(true)}>
          Bring {folder || "all of it"} back
        </Button>
      )}
      <Link to={folderPath(here.key, folder)}>{branch ? `On ${firstBranch}` : "As it is now"}</Link>
      {back && (
        <GoBack
          here={here}
          title={`Bring ${folder || "the whole project"} back to ${name}?`}
          back={folder ? { paths: [folder], to: at } : { all: true, to: at }}
          onClose={() => setBack(false)}
        />
      )}
    </div>
  );
}

/** Way is where one is: the project, and each folder down to this one. */
function Way({ here, folder, at }: { here: string; folder: string; at: string }) {
  const parts = folder ? folder.split("/") : [];
  return (
    <h1 className="flex flex-wrap gap-x-2">
      {parts.length === 0 ? "Assets" : <Link to={folderPath(here, "", at)}>Assets</Link>}
      {parts.map((name, i) => (
        <span key={i} className="flex gap-x-2">
          <span className="text-peat" aria-hidden>
            /
          </span>
          {i === parts.length - 1 ? name : <Link to={folderPath(here, parts.slice(0, i + 1).join("/"), at)}>{name}</Link>}
        </span>
      ))}
    </h1>
  );
}

function Shelves({ here, folder, folders, at }: { here: string; folder: string; folders: Schemas["Folder"][]; at: string }) {
  const [all, setAll] = useState(false);
  return (
    <ul className="mb-5 grid grid-cols-[repeat(auto-fill,minmax(12rem,1fr))] gap-2" aria-label="Folders">
      {folders.slice(0, all ? undefined : few).map((f) => (
        <li key={f.name}>
          <Link
            to={folderPath(here, folder ? `${folder}/${f.name}` : f.name, at)}
            className="block border-b-2 border-line bg-bank px-3 py-2 no-underline hover:border-copper"
          >
            <span className="font-semibold">{f.name}</span>
            <span className="block text-xs text-peat">
              {plural(f.assets, "asset")}, {size(f.size)}
            </span>
          </Link>
        </li>
      ))}
      {folders.length > few && !all && (
        <li>
          <Button className="h-full w-full" onClick={() => setAll(true)}>
            {(folders.length - few).toLocaleString("en")} more
          </Button>
        </li>
      )}
    </ul>
  );
}

/** So many folders are shown at once. */
const few = 60;
