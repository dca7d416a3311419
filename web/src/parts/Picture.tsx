import { AudioLines, Box, CircuitBoard, FileText, File as FileIcon, Table2 } from "lucide-react";
import { useState } from "react";
import { hasPicture, pictureAddress } from "../api/client";

const kinds: [RegExp, typeof FileIcon][] = [
  [/\.(wav|ogg|flac|mp3)$/i, AudioLines],
  [/\.(glb|gltf|stl|step|stp|obj)$/i, Box],
  [/\.(kicad_sch|kicad_pcb|gbr|drl)$/i, CircuitBoard],
  [/\.csv$/i, Table2],
  [/\.(txt|md|toml|json)$/i, FileText],
];

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
  if (hasPicture(path) && failed !== address) {
    return <img src={address} alt="" loading="lazy" onError={() => setFailed(address)} className={`bg-stone object-contain ${className}`} />;
  }
  const Sign = kinds.find(([pattern]) => pattern.test(path))?.[1] ?? FileIcon;
  return (
    <span className={`inline-grid place-items-center bg-stone text-peat ${className}`}>
      <Sign aria-hidden size={edge === 96 ? 18 : 40} strokeWidth={1.5} />
    </span>
  );
}
