import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useState } from "react";
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
import { Matched } from "./Matched";
import { Pages } from "./Pages";
import { Pictures } from "./Pictures";
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
        {c.kind !== "other" && (c.strip?.parts.length ?? 0) > 1 && <Strip strip={c.strip} />}
      </div>
      {!c.table && !hasPlan(c) && <Changes list={c.changes} left={c.changes_left ?? 0} />}
    </>
  );
}

const hasPlan = (c: Comparison) => c.files.includes("plan.png");

/** View is what there is to see, by kind. */
function View({ here, sides, comparison: c }: { here: Here; sides: Sides; comparison: Comparison }) {
  const has = (r: Comparison["before"], name: string) => r.files.includes(name);
  const both = (name: string) => has(c.before, name) && has(c.after, name);
  const plan = hasPlan(c) && (
    <div className="mt-6 grid gap-x-8 gap-y-6 lg:grid-cols-2">
      <figure>
        <img src={drawnOfBoth(here.key, sides, "plan.png")} alt="Seen from above: what came is filled, what went is a ring, and a line leads from where something was" className="w-full rounded-lg" />
        <figcaption className="mt-1.5 text-peat">Seen from above. Filled: came, or moved here. Ring: went, or was here. Square: as before.</figcaption>
      </figure>
      {!c.table && <div className="min-w-0"><Changes list={c.changes} left={c.changes_left ?? 0} narrow /></div>}
    </div>
  );
  const first = (name: string) => drawnOf(here.key, sides.path, sides.a, name);
  const second = (name: string) => drawnOf(here.key, sides.with, sides.b, name);
  const of = (name: string) => drawnOfBoth(here.key, sides, name);
  if (c.kind === "texture" && both("whole.png")) {
    return (
      <Pictures before={first("whole.png")} after={second("whole.png")}
        {...(c.files.includes("difference.png") && { difference: of("difference.png") })}
        {...(both("lit.png") && { lit: [first("lit.png"), second("lit.png")] as [string, string] })} />
    );
  }
  if (c.files.includes("was.png") && c.files.includes("is.png")) return <Circuits comparison={c} of={of} />;
  if (c.kind === "document") return <Pages comparison={c} first={first} second={second} of={of} />;
  if (c.kind === "other" && c.strip) return <div className="mt-4"><Strip strip={c.strip} tall /></div>;
  if (c.kind === "model" && both("mesh.bin")) {
    return (
      <Suspense fallback={<p className="h-[30rem] text-peat">Loading the models …</p>}>
        <Models before={first("mesh.bin")} after={second("mesh.bin")} {...(c.files.includes("difference.png") && { difference: of("difference.png") })} />
        {plan}
      </Suspense>
    );
  }
  if (c.kind === "sound") {
    return <Sounds sides={[c.before, c.after].map((r, i) => ({ report: r, address: i === 0 ? first : second }))} />;
  }
  return (
    <>
      {plan}
      {c.table && <Matched table={c.table} />}
      {c.rows && c.rows.length > 0 && <Lines rows={c.rows} left={c.rows_left ?? 0} />}
    </>
  );
}

/** Circuits are a schematic, a board or a layer: drawn as one, with what went and what came, or as each was. */
function Circuits({ comparison: c, of }: { comparison: Comparison; of: (name: string) => string }) {
  const layers = c.files.filter((f) => f.startsWith("layer-"));
  const [layer, setLayer] = useState("difference.png");
  return (
    <>
      {layers.length > 0 && (
        <label className="mb-3 flex items-center gap-2">
          <span className="text-peat">Layers</span>
          <select className={`${fieldClass} max-w-56`} value={layer} onChange={(e) => setLayer(e.target.value)}>
            <option value="difference.png">all</option>
            {layers.map((f) => <option key={f} value={f}>{f.slice("layer-".length, -".png".length)}</option>)}
          </select>
        </label>
      )}
      <Pictures before={of("was.png")} after={of("is.png")} {...(c.files.includes(layer) && { difference: of(layer) })} first="Difference" channels={false}
        legend="Copper, solid: came. Ice, dashed: went. Grey: as before." />
    </>
  );
}
