import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, ask, type Version } from "../../api/client";
import { fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { assetPath, baseName, firstLine, When } from "../../parts/words";
import { useHere, type Here } from "../project/ProjectFrame";
import { ShowOutside } from "../showings/ShowOutside";
import { Difference } from "./Difference";
import { useCompare, type Sides } from "./useCompare";

/** ComparePage is two versions beside each other. Which two is in its address. */
export function ComparePage() {
  const here = useHere();
  const [params, setParams] = useSearchParams();
  const path = params.get("path") ?? "";
  const sides: Sides = { path, a: Number(params.get("a") ?? 0), with: params.get("with") ?? path, b: Number(params.get("b") ?? 0) };
  const found = useCompare(here.key, sides);
  useTitle(`${path.slice(path.lastIndexOf("/") + 1)} compared`);
  const set = (next: Partial<Sides>) => {
    const s = { ...sides, ...next };
    setParams({ path: s.path, a: String(s.a), ...(s.with !== s.path && { with: s.with }), b: String(s.b) }, { replace: true });
  };
  const data = found.data;
  return (
    <>
      <p className="text-peat">
        <Link to={assetPath(here.key, sides.with)}>{sides.with}</Link>
      </p>
      <h1 className="break-all">{baseName(sides.with)}, compared</h1>
      <form className="mt-3 mb-5 flex flex-wrap items-end gap-3" aria-label="Which versions" onSubmit={(e) => e.preventDefault()}>
        <Choice here={here} label="Before" path={sides.path} version={data?.before.version ?? sides.a} onChange={(a) => set({ a })} />
        <Choice here={here} label="After" path={sides.with} version={data?.after.version ?? sides.b} onChange={(b) => set({ b })} />
        <Button kind="quiet" onClick={() => set({ path: sides.with, a: sides.b, with: sides.path, b: sides.a })}>
          The other way round
        </Button>
        {data && (
          <ShowOutside
            here={here}
            kind="quiet"
            show={{
              what: { path: sides.path, version: data.before.version, compare: true, with: sides.with, with_version: data.after.version },
              words: "this comparison",
            }}
          />
        )}
      </form>
      <Trouble error={found.error} />
      {found.isPending && <p className="text-peat">Looking at both …</p>}
      {data && <Difference here={here} sides={{ ...sides, a: data.before.version, b: data.after.version }} comparison={data.comparison} />}
    </>
  );
}

function Choice({
  here,
  label,
  path,
  version,
  onChange,
}: {
  here: Here;
  label: string;
  path: string;
  version: number;
  onChange: (v: number) => void;
}) {
  const found = useQuery({
    queryKey: ["project", here.key, "asset", path],
    queryFn: () => ask(api.GET("/projects/{project}/asset", { params: { path: { project: here.key }, query: { path } } })),
  });
  const versions: Version[] = found.data?.versions.filter((v) => !v.gone) ?? [];
  const chosen = versions.find((v) => v.version === version);
  return (
    <label className="min-w-0 flex-1 sm:max-w-md">
      <span className="mb-1 block text-peat">
        {label}
        {chosen && (
          <>
            : {chosen.author}, <When at={chosen.at} />
          </>
        )}
      </span>
      <select className={fieldClass} value={version} onChange={(e) => onChange(Number(e.target.value))}>
        {versions.map((v) => (
          <option key={v.version} value={v.version}>{`v${v.version}  ${firstLine(v.note)}`}</option>
        ))}
      </select>
    </label>
  );
}
