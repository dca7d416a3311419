import { useState } from "react";
import { hereAddress, type Workspace } from "../../api/desk";
import type { Asset } from "../../api/desk.gen";
import { hasPicture } from "../../api/client";
import { kindOf } from "../../api/words.gen";
import { Picture } from "../../parts/Picture";

/** Here is a file as it is here, drawn, or the sign of its kind. */
export function HerePicture({ w, asset: a, edge, className = "" }: { w: Workspace; asset: Asset; edge: 96 | 320; className?: string }) {
  const [failed, setFailed] = useState("");
  const address = hereAddress(w, a, edge);
  const kind = kindOf(a.path);
  const words = edge === 96 && (kind === "text" || kind === "table");
  if (a.state === "gone" || !hasPicture(a.path) || words || failed === address) {
    return <Picture project={w.project} path={a.path} version={0} edge={edge} className={className} />;
  }
  return <img src={address} alt="" loading="lazy" onError={() => setFailed(address)} className={`bg-stone object-contain ${className}`} />;
}

/** BeforeAfter is what one changed, at a glance. */
export function BeforeAfter({ w, asset: a }: { w: Workspace; asset: Asset }) {
  const size = "size-12 shrink-0 rounded-md";
  return (
    <span className="flex gap-1" aria-hidden>
      {a.state !== "new" && (
        <Picture project={w.project} path={a.moved_from || a.path} version={a.version ?? 0} edge={96} className={size} />
      )}
      {a.state !== "gone" && <HerePicture w={w} asset={a} edge={96} className={size} />}
    </span>
  );
}
