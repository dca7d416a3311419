import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ask, type Version } from "../../api/client";
import { fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";
import { assetPath, baseName, firstLine, When } from "../../parts/words";
import { useHere, type Here } from "../project/ProjectFrame";
import { Changes, Facts, Measures, Strip } from "./Findings";
import { Sounds } from "./Sounds";
import { Lines } from "./Lines";
import { Textures } from "./Textures";
import { drawnOf, drawnOfBoth, useCompare, type Comparison, type Sides } from "./useCompare";

const Models = lazy(() => import("./Models"));

/** ComparePage is two versions beside each other. Which two is in its address. */
export function ComparePage() {
  const here = useHere();
  const [params, setParams] = useSearchParams();
  const path = params.get("path") ?? "";
  const sides: Sides = { path, a: Number(params.get("a") ?? 0), with: params.get("with") ?? path, b: Number(params.get("b") ?? 0) };
  const found = useCompare(here.key, sides);
  const set = (next: Partial<Sides>) => {
    const s = { ...sides, ...next };
    setParams({ path: s.path, a: String(s.a), ...(s.with !== s.path && { with: s.with }), b: String(s.b) }, { replace: true });
  };
  const data = found.data;
  return (
    <>
      <p className="text-peat"><Link to={assetPath(here.key, sides.with)}>{sides.with}</Link></p>
      <h1 className="break-all">{baseName(sides.with)}, compared</h1>
      <form className="mt-3 mb-5 flex flex-wrap items-end gap-3" aria-label="Which versions" onSubmit={(e) => e.preventDefault()}>
        <Choice here={here} label="Before" path={sides.path} version={data?.before.version ?? sides.a} onChange={(a) => set({ a })} />
        <Choice here={here} label="After" path={sides.with} version={data?.after.version ?? sides.b} onChange={(b) => set({ b })} />
        <Button kind="quiet" onClick={() => set({ path: sides.with, a: sides.b, with: sides.path, b: sides.a })}>The other way round</Button>
      </form>
      <Trouble error={found.error} />
      {found.isPending && <p className="text-peat">Looking at both …</p>}
      {data && <Findings here={here} sides={{ ...sides, a: data.before.version, b: data.after.version }} comparison={data.comparison} />}
    </>
  );
}

function Choice({ here, label, path, version, onChange }: { here: Here; label: string; path: string; version: number; onChange: (v: number) => void }) {
  const found = useQuery({
    queryKey: ["project", here.key, "asset", path],
    queryFn: () => ask(api.GET("/projects/{project}/asset", { params: { path: { project: here.key }, query: { path } } })),
  });
  const versions: Version[] = found.data?.versions.filter((v) => !v.gone) ?? [];
  const chosen = versions.find((v) => v.version === version);
  return (
    <label className="min-w-0 flex-1 sm:max-w-md">
      <span className="mb-1 block text-peat">{label}{chosen && <>: {chosen.author}, <When at={chosen.at} /></>}</span>
      <select className={fieldClass} value={version} onChange={(e) => onChange(Number(e.target.value))}>
        {versions.map((v) => <option key={v.version} value={v.version}>{`v${v.version}  ${firstLine(v.note)}`}</option>)}
      </select>
    </label>
  );
}

function Findings({ here, sides, comparison: c }: { here: Here; sides: Sides; comparison: Comparison }) {
  const unread = [["before", c.before], ["after", c.after]] as const;
  return (
    <>
      {unread.map(([side, r]) => r.trouble && <p key={side} role="alert" className="mb-3 text-rust">The version {side} can’t be read: {r.trouble}.</p>)}
      {c.same && <p className="mb-3 text-lg">Nothing that can be seen or heard is different.</p>}
      <Measures list={c.measures} />
      <View here={here} sides={sides} comparison={c} />
      <div className="mt-6 grid gap-x-10 gap-y-6 lg:grid-cols-2">
        <Facts list={c.facts} />
        {(c.strip?.parts.length ?? 0) > 1 && <Strip strip={c.strip} />}
      </div>
      <Changes list={c.changes} left={c.changes_left ?? 0} />
    </>
  );
}

/** View is what there is to see, by kind. */
function View({ here, sides, comparison: c }: { here: Here; sides: Sides; comparison: Comparison }) {
  const has = (r: Comparison["before"], name: string) => r.files.includes(name);
  const both = (name: string) => has(c.before, name) && has(c.after, name);
  const plan = c.files.includes("plan.png") && (
    <figure className="mt-5">
      <img src={drawnOfBoth(here.key, sides, "plan.png")} alt="Seen from above: what came is filled, what went is a ring, and a line leads from where something was" className="max-h-[36rem] max-w-full rounded-lg" />
      <figcaption className="mt-1.5 text-peat">Seen from above. Filled: came, or moved here. Ring: went, or was here. Square: as before.</figcaption>
    </figure>
  );
  if (c.kind === "texture" && both("whole.png")) {
    return (
      <Textures
        before={drawnOf(here.key, sides.path, sides.a, "whole.png")} after={drawnOf(here.key, sides.with, sides.b, "whole.png")}
        {...(c.files.includes("difference.png") && { difference: drawnOfBoth(here.key, sides, "difference.png") })}
        {...(both("lit.png") && { lit: [drawnOf(here.key, sides.path, sides.a, "lit.png"), drawnOf(here.key, sides.with, sides.b, "lit.png")] as [string, string] })}
        width={c.after.width ?? 1} height={c.after.height ?? 1}
      />
    );
  }
  if (c.kind === "model" && both("mesh.bin")) {
    return (
      <Suspense fallback={<p className="h-[30rem] text-peat">Loading the models …</p>}>
        <Models before={drawnOf(here.key, sides.path, sides.a, "mesh.bin")} after={drawnOf(here.key, sides.with, sides.b, "mesh.bin")}
          {...(c.files.includes("difference.png") && { difference: drawnOfBoth(here.key, sides, "difference.png") })} />
        {plan}
      </Suspense>
    );
  }
  if (c.kind === "sound") {
    return <Sounds sides={[c.before, c.after].map((r, i) => ({ report: r, address: (name: string) => (i === 0 ? drawnOf(here.key, sides.path, sides.a, name) : drawnOf(here.key, sides.with, sides.b, name)) }))} />;
  }
  return (
    <>
      {plan}
      {c.rows && c.rows.length > 0 && <Lines rows={c.rows} left={c.rows_left ?? 0} />}
    </>
  );
}
