import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { HoverCard } from "radix-ui";
import { useEffect, useRef, useState, type DragEvent } from "react";
import { Link } from "react-router";
import { hasPicture, type Asset } from "../../api/client";
import { Holder } from "../../parts/Holder";
import { ReleaseLock, TakeLock } from "../../parts/LockControl";
import { Picture } from "../../parts/Picture";
import { assetPath, baseName, firstLine, size, When } from "../../parts/words";
import type { Here } from "../project/ProjectFrame";

interface Props {
  here: Here;
  assets: Asset[];
  fullPaths: boolean;
  /** The state that is shown where it is not the present: then there is nothing to do but look. */
  at: string;
  onDrop: (e: DragEvent, asset?: Asset) => void;
  onEnd: () => void;
}

const rowHeight = 56;
const columns = "grid grid-cols-[3rem_minmax(0,1fr)_9.5rem] items-center gap-x-4 md:grid-cols-[3rem_minmax(0,3fr)_4rem_5.5rem_minmax(0,3fr)_6.5rem_6rem]";

/** AssetTable shows only the rows in view, however many there are. */
export function AssetTable({ here, assets, fullPaths, at, onDrop, onEnd }: Props) {
  const top = useRef<HTMLDivElement>(null);
  const [offset, setOffset] = useState(0);
  useEffect(() => setOffset(top.current?.offsetTop ?? 0), [assets.length]);
  const rows = useWindowVirtualizer({ count: assets.length, estimateSize: () => rowHeight, overscan: 12, scrollMargin: offset });
  const shown = rows.getVirtualItems();
  const last = shown.at(-1)?.index ?? 0;
  useEffect(() => {
    if (last >= assets.length - 20) onEnd();
  }, [last, assets.length, onEnd]);
  return (
    <div role="table" aria-label="Assets" aria-rowcount={assets.length}>
      <div role="row" className={`${columns} border-b border-line pb-1 text-xs text-peat max-md:hidden`}>
        <span role="columnheader"><span className="sr-only">Picture</span></span>
        <span role="columnheader">Name</span>
        <span role="columnheader">Version</span>
        <span role="columnheader" className="text-right">Size</span>
        <span role="columnheader">Last</span>
        <span role="columnheader">Lock</span>
        <span role="columnheader"><span className="sr-only">What to do</span></span>
      </div>
      <div ref={top} className="relative" style={{ height: rows.getTotalSize() }}>
        {shown.map((r) => {
          const asset = assets[r.index]!;
          return (
            <div key={asset.path} className="absolute inset-x-0" style={{ height: r.size, transform: `translateY(${r.start - offset}px)` }}>
              <Row here={here} asset={asset} at={at} name={fullPaths ? asset.path : baseName(asset.path)} onDrop={onDrop} />
            </div>
          );
        })}
      </div>
    </div>
  );
}

function Row({ here, asset, name, at, onDrop }: { here: Here; asset: Asset; name: string; at: string; onDrop: Props["onDrop"] }) {
  const past = at !== "";
  const [over, setOver] = useState(false);
  const mine = asset.holder === here.me;
  const takes = mine && here.maySend && !past;
  return (
    <div
      role="row"
      className={`${columns} h-full border-b border-line/60 ${over ? "bg-copper-wash" : "hover:bg-bank"}`}
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
      <span role="cell">
        <Preview here={here} asset={asset} />
      </span>
      <span role="cell" className="truncate">
        <Link to={`${assetPath(here.key, asset.path)}${past ? `?${new URLSearchParams({ version: String(asset.newest), at })}` : ""}`} className="font-medium" title={asset.path}>{name}</Link>
        <span className="block truncate text-xs text-peat md:hidden">v{asset.newest}, {size(asset.size)}, {asset.author}</span>
      </span>
      <span role="cell" className="max-md:hidden">v{asset.newest}</span>
      <span role="cell" className="text-right max-md:hidden">{size(asset.size)}</span>
      <span role="cell" className="truncate text-peat max-md:hidden" title={asset.note}>
        {asset.author}, {asset.at && <When at={asset.at} />}: {firstLine(asset.note ?? "")}
      </span>
      <span role="cell" className="max-md:hidden">{!past && <Holder lock={asset.lock} me={here.me} />}</span>
      <span role="cell" className="flex items-center justify-end gap-2">
        {!past && <span className="md:hidden"><Holder lock={asset.lock} me={here.me} /></span>}
        {past ? null : asset.lock ? <ReleaseLock here={here} lock={asset.lock} /> : here.maySend && <TakeLock here={here} asset={asset} />}
      </span>
    </div>
  );
}

function Preview({ here, asset }: { here: Here; asset: Asset }) {
  const small = <Picture project={here.key} path={asset.path} version={asset.newest} edge={96} className="size-11 rounded-md" />;
  if (!hasPicture(asset.path)) return small;
  return (
    <HoverCard.Root openDelay={250} closeDelay={80}>
      <HoverCard.Trigger asChild><span>{small}</span></HoverCard.Trigger>
      <HoverCard.Portal>
        <HoverCard.Content side="right" sideOffset={10} className="z-20 rounded-lg border border-line bg-bank p-1.5 shadow-2xl">
          <Picture project={here.key} path={asset.path} version={asset.newest} edge={320} className="max-h-80 max-w-80" />
        </HoverCard.Content>
      </HoverCard.Portal>
    </HoverCard.Root>
  );
}
