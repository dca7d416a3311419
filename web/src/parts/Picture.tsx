import { AudioLines, Box, CircuitBoard, FileText, File as FileIcon, Table2 } from "lucide-react";
import { useState } from "react";
import { hasPicture, pictureAddress } from "../api/client";
import { kindOf } from "../api/words.gen";

const signs: Partial<Record<ReturnType<typeof kindOf>, typeof FileIcon>> = {
  sound: AudioLines,
  model: Box,
  schematic: CircuitBoard,
  board: CircuitBoard,
  table: Table2,
  text: FileText,
  data: FileText,
  document: FileText,
};

interface Props {
  project: string;
  path: string;
  version: number;
  edge: 96 | 320 | 1280;
  className?: string;
}

/** Picture draws an asset, or the sign of its kind where it can't be drawn. */
export function Picture({ project, path, version, edge, className = "" }: Props) {
  const [failed, setFailed] = useState("");
  const address = pictureAddress(project, path, version, edge);
  const kind = kindOf(path);
  // A small picture of words looks like any other: the ending says more.
  const words = edge === 96 && (kind === "text" || kind === "table");
  if (hasPicture(path) && !words && version > 0 && failed !== address) {
    return (
      <img src={address} alt="" loading="lazy" onError={() => setFailed(address)} className={`bg-stone object-contain ${className}`} />
    );
  }
  const Sign = signs[kind] ?? FileIcon;
  return (
    <span className={`inline-grid place-items-center bg-stone text-peat ${className}`}>
      <Sign aria-hidden size={edge === 96 ? 18 : 40} strokeWidth={1.5} />
      {words && (
        <span aria-hidden className="-mt-1 max-w-full truncate px-0.5 text-[0.65rem] leading-none uppercase">
          {path.slice(path.lastIndexOf(".") + 1)}
        </span>
      )}
    </span>
  );
}
