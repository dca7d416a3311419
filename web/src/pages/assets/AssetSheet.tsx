import { lazy, memo, Suspense, useEffect, useEffectEvent, useRef, useState } from "react";
import { Link } from "react-router";
import type { Asset } from "../../api/client";
import type { Rows } from "../../api/rows";
import { kindOf } from "../../api/words.gen";
import { List } from "../../parts/List";
import { Picture } from "../../parts/Picture";
import { assetPath, baseName } from "../../parts/words";
import { drawnOf } from "../compare/useCompare";
import type { Here } from "../project/ProjectFrame";
import { Choosing } from "./AssetTable";
import type { Chosen } from "./chosen";
import type { Listing } from "./listing";

const Turning = lazy(() => import("../compare/Turning"));

interface Props {
  here: Here;
  assets: Rows<Asset>;
  listing: Listing;
  fullPaths: boolean;
  chosen: Chosen;
  /** How wide a picture is, in pixels. */
  edge: number;
}

/** AssetSheet is a picture an asset, as large as one sets. */
export function AssetSheet({ here, assets, listing, fullPaths, chosen, edge }: Props) {
  const place = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  useEffect(() => {
    const seen = new ResizeObserver(([e]) => setWidth(e!.contentRect.width));
    seen.observe(place.current!);
    return () => seen.disconnect();
  }, []);
  const columns = Math.max(1, Math.floor(width / edge));
  const height = Math.round((width || edge) / columns) + 44;
  return (
    <div ref={place}>
      {width > 0 && (
        <List
          key={columns}
          rows={assets}
          height={height}
          columns={columns}
          label="Assets"
          row={(asset, index) => (
            <Tile
              here={here}
              asset={asset}
              index={index}
              at={listing.at ?? ""}
              name={fullPaths ? asset.path : baseName(asset.path)}
              large={edge > 130}
              chosen={chosen.assets.has(asset.path)}
              onChoose={chosen.choose}
            />
          )}
        />
      )}
    </div>
  );
}

interface TileProps {
  here: Here;
  asset: Asset;
  name: string;
  at: string;
  index: number;
  large: boolean;
  chosen: boolean;
  onChoose: Chosen["choose"];
}

const Tile = memo(function Tile({ here, asset, index, name, at, large, chosen, onChoose }: TileProps) {
  const heard = kindOf(asset.path) === "sound";
  const mine = asset.holder === here.me;
  const model = kindOf(asset.path) === "model";
  const [near, setNear] = useState(false);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  // A pointer that only passes by loads nothing.
  const come = () => {
    timer.current = setTimeout(() => setNear(true), 200);
  };
  const leave = () => {
    clearTimeout(timer.current);
    setNear(false);
  };
  useEffect(() => () => clearTimeout(timer.current), []);
  return (
    <div className={`group relative flex h-full flex-col p-1.5 ${chosen ? "bg-copper-wash" : ""}`}>
      {!at && (
        <span className={`absolute top-3 left-3 z-10 rounded bg-bank p-1 ${chosen ? "" : "not-focus-within:not-group-hover:opacity-0"}`}>
          <Choosing asset={asset} index={index} chosen={chosen} onChoose={onChoose} />
        </span>
      )}
      <Link
        to={`${assetPath(here.key, asset.path)}${at && `?${new URLSearchParams({ version: String(asset.newest), at })}`}`}
        className="relative block min-h-0 flex-1 overflow-hidden rounded-lg"
        tabIndex={-1}
        aria-hidden
        {...((model || heard) && { onPointerEnter: come, onPointerLeave: leave })}
      >
        <Picture project={here.key} path={asset.path} version={asset.newest} edge={large ? 320 : 96} className="size-full" />
        {near && model && (
          <Suspense fallback={null}>
            <Turning mesh={drawnOf(here.key, asset.path, asset.newest, "mesh.bin")} className="absolute inset-0 size-full" />
          </Suspense>
        )}
        {asset.holder && !at && (
          <span
            className={`absolute bottom-1.5 left-1.5 max-w-[90%] truncate rounded-md border px-1.5 text-xs ${mine ? "border-copper bg-copper-wash text-copper" : "border-ice bg-ice-wash text-ice"}`}
          >
            {mine ? "yours" : asset.holder}
          </span>
        )}
      </Link>
      <div className="flex h-10 shrink-0 items-center gap-2">
        <Link
          to={`${assetPath(here.key, asset.path)}${at && `?${new URLSearchParams({ version: String(asset.newest), at })}`}`}
          className="min-w-0 flex-1 truncate text-sm"
          title={asset.path}
        >
          {name}
          <span className="sr-only">, {asset.holder ? `held by ${mine ? "you" : asset.holder}` : "free"}</span>
        </Link>
        {heard && <Listen here={here} asset={asset} near={near} />}
        <span className="text-xs text-peat">v{asset.newest}</span>
      </div>
    </div>
  );
});

let playing: HTMLAudioElement | undefined;

/** Listen plays a sound from its beginning, also while the pointer stays on its picture (near); another one stops it. */
function Listen({ here, asset, near }: { here: Here; asset: Asset; near: boolean }) {
  const [on, setOn] = useState(false);
  const audio = useRef<HTMLAudioElement>(undefined);
  useEffect(() => () => audio.current?.pause(), []);
  const play = () => {
    playing?.pause();
    const a = (playing = audio.current ??= new Audio(drawnOf(here.key, asset.path, asset.newest, "sound.wav")));
    a.onpause = a.onended = () => setOn(false);
    a.currentTime = 0;
    setOn(true);
    a.play().catch(() => setOn(false));
  };
  const hear = useEffectEvent(play);
  useEffect(() => {
    if (!near) return;
    hear();
    return () => audio.current?.pause();
  }, [near]);
  return (
    <button
      type="button"
      onClick={() => (on ? audio.current?.pause() : play())}
      aria-pressed={on}
      aria-label={`Listen to ${asset.path}`}
      className={`rounded-md border px-1.5 text-xs ${on ? "border-copper text-copper" : "border-edge text-peat hover:text-ink"}`}
    >
      {on ? "Stop" : "Listen"}
    </button>
  );
}
