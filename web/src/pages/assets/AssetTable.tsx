import { HoverCard } from "radix-ui";
import { memo, useState, type DragEvent } from "react";
import { Link } from "react-router";
import { hasPicture, type Asset } from "../../api/client";
import type { Rows } from "../../api/rows";
import { Holder } from "../../parts/Holder";
import { List } from "../../parts/List";
import { LockButtons } from "../../parts/LockControl";
import { Picture } from "../../parts/Picture";
import { assetPath, baseName, firstLine, size, When } from "../../parts/words";
import type { Here } from "../project/ProjectFrame";
import type { Chosen } from "./chosen";
import type { Listing } from "./listing";

interface Props {
  here: Here;
  assets: Rows<Asset>;
  listing: Listing;
  fullPaths: boolean;
  chosen: Chosen;
  onOrder: (order: string) => void;
  onDrop: (e: DragEvent, asset?: Asset) => void;
}

const columns =
  "grid grid-cols-[1.1rem_3rem_minmax(0,1fr)_auto] items-center gap-x-4 md:grid-cols-[1.1rem_3rem_minmax(0,3fr)_4.5rem_5.5rem_minmax(0,3fr)_6.5rem_7rem]";

const heads = [
  ["name", "Name", ""],
  ["version", "Version", ""],
  ["size", "Size", "justify-end"],
  ["date", "Last", ""],
] as const;

/** AssetTable is a row an asset, each with what one may do about its lock. */
export function AssetTable({ here, assets, listing, fullPaths, chosen, onOrder, onDrop }: Props) {
  const at = listing.at ?? "";
  const order = listing.order ?? "name";
  const head = (
    <div role="rowgroup">
      <div role="row" className={`${columns} border-b border-line pb-1 text-xs text-peat max-md:hidden`}>
        <span role="columnheader">
          {!at && (
            <input
              type="checkbox"
              className="block size-4 accent-copper"
              aria-label="Choose all"
              checked={chosen.assets.size > 0 && chosen.assets.size >= (assets.total ?? 0)}
              onChange={(e) => (e.target.checked ? chosen.all() : chosen.none())}
            />
          )}
        </span>
        <span role="columnheader">
          <span className="sr-only">Picture</span>
        </span>
        {heads.map(([name, word, side]) => (
          <span
            key={name}
            role="columnheader"
            aria-sort={order === name ? (listing.down ? "descending" : "ascending") : "none"}
            className={`flex ${side}`}
          >
            {at ? (
              word
            ) : (
              <button
                type="button"
                onClick={() => onOrder(name)}
                className={`hover:text-ink ${order === name ? "text-ink underline decoration-copper underline-offset-4" : ""}`}
                title={`Sort by ${word.toLowerCase()}`}
              >
                {word}
                {order === name && <span className="ml-1 text-xs">{listing.down ? "down" : "up"}</span>}
              </button>
            )}
          </span>
        ))}
        <span role="columnheader">Lock</span>
        <span role="columnheader">
          <span className="sr-only">What to do</span>
        </span>
      </div>
    </div>
  );
  return (
    <List
      rows={assets}
      height={56}
      role="table"
      label="Assets"
      head={head}
      row={(asset, index) => (
        <Row
          here={here}
          asset={asset}
          index={index}
          at={at}
          name={fullPaths ? asset.path : baseName(asset.path)}
          chosen={chosen.assets.has(asset.path)}
          onChoose={chosen.choose}
          onDrop={onDrop}
        />
      )}
    />
  );
}

interface RowProps {
  here: Here;
  asset: Asset;
  name: string;
  at: string;
  index: number;
  chosen: boolean;
  onChoose: Chosen["choose"];
  onDrop: Props["onDrop"];
}

const Row = memo(function Row({ here, asset, name, at, index, chosen, onChoose, onDrop }: RowProps) {
  const past = at !== "";
  const [over, setOver] = useState(false);
  const takes = asset.holder === here.me && here.maySend && !past;
  return (
    <div
      role="presentation"
      className={`${columns} h-full border-b border-line/60 ${over || chosen ? "bg-copper-wash" : "hover:bg-bank"}`}
      onDragOver={(e) => {
        if (!takes) return;
        e.preventDefault();
        e.stopPropagation();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e) => {
        setOver(false);
        if (takes) onDrop(e, asset);
      }}
    >
      <span role="cell">{!past && <Choosing asset={asset} index={index} chosen={chosen} onChoose={onChoose} />}</span>
      <span role="cell">
        <Preview here={here} asset={asset} />
      </span>
      <span role="cell" className="truncate">
        <Link
          to={`${assetPath(here.key, asset.path)}${past ? `?${new URLSearchParams({ version: String(asset.newest), at })}` : ""}`}
          className="font-medium"
          title={asset.path}
        >
          {name}
        </Link>
        <span className="block truncate text-xs text-peat md:hidden">
          v{asset.newest}, {size(asset.size)}, {asset.author}
        </span>
      </span>
      <span role="cell" className="max-md:hidden">
        v{asset.newest}
      </span>
      <span role="cell" className="text-right max-md:hidden">
        {size(asset.size)}
      </span>
      <span role="cell" className="truncate text-peat max-md:hidden" title={asset.note}>
        {asset.author}, {asset.at && <When at={asset.at} />}: {firstLine(asset.note ?? "")}
      </span>
      <span role="cell" className="max-md:hidden">
        {!past && <Holder lock={asset.lock} me={here.me} />}
      </span>
      <span role="cell" className="flex items-center justify-end gap-2">
        {!past && (
          <span className="md:hidden">
            <Holder lock={asset.lock} me={here.me} />
          </span>
        )}
        {!past && <LockButtons here={here} asset={asset} lock={asset.lock} brief />}
      </span>
    </div>
  );
});

/** Choosing is the box by which one chooses an asset; with Shift, all up to it. */
export function Choosing({ asset, index, chosen, onChoose }: Pick<RowProps, "asset" | "index" | "chosen" | "onChoose">) {
  return (
    <input
      type="checkbox"
      className="block size-4 accent-copper"
      aria-label={`Choose ${asset.path}`}
      checked={chosen}
      onChange={(e) => onChoose(index, asset, (e.nativeEvent as MouseEvent).shiftKey === true)}
    />
  );
}

function Preview({ here, asset }: { here: Here; asset: Asset }) {
  const small = <Picture project={here.key} path={asset.path} version={asset.newest} edge={96} className="size-11 rounded-md" />;
  if (!hasPicture(asset.path)) return small;
  return (
    <HoverCard.Root openDelay={250} closeDelay={80}>
      <HoverCard.Trigger asChild>
        <Link to={assetPath(here.key, asset.path)} aria-label={`A larger picture of ${asset.path}`} className="block">
          {small}
        </Link>
      </HoverCard.Trigger>
      <HoverCard.Portal>
        <HoverCard.Content side="right" sideOffset={10} className="z-20 rounded-lg border border-line bg-bank p-1.5 shadow-2xl">
          <Picture project={here.key} path={asset.path} version={asset.newest} edge={320} className="max-h-80 max-w-80" />
        </HoverCard.Content>
      </HoverCard.Portal>
    </HoverCard.Root>
  );
}
