import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, ask } from "../../api/client";
import { Button } from "../../parts/Button";
import { fieldClass } from "../../parts/Ask";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { plural, size, When } from "../../parts/words";
import { useHere } from "../project/ProjectFrame";
import { BringKit, UseKit } from "./Bring";
import { KitAssets, KitSheet } from "./KitAssets";
import { ReleaseKit } from "./KitsPage";
import { isBehind, kitPath, standing, useKits, useKitState, type KitUse } from "./useKits";

/** KitPage is a kit: a release of it in pictures, what is different in it beside another one, and who uses it. */
export function KitPage() {
  const here = useHere();
  const name = useParams()["kit"]!;
  useTitle(name);
  const [params, setParams] = useSearchParams();
  const kits = useKits(here.key);
  const kit = kits.data?.made.find((k) => k.name === name);
  const number = Number(params.get("release")) || kit?.releases[0]?.number || 0;
  const beside = Number(params.get("beside")) || 0;
  const [doing, setDoing] = useState<"use" | "release">();
  const state = useKitState(here.key, name, number, beside);
  const set = (release: number, other: number) =>
    setParams({ release: String(release), ...(other > 0 && { beside: String(other) }) }, { replace: true });
  if (kits.data && !kit) {
    return (
      <>
        <h2>There is no kit {name} here</h2>
        <p className="mt-2">
          <Link to={`/p/${here.key}/kits`}>The kits of {here.key}</Link>
        </p>
      </>
    );
  }
  const r = state.data;
  const different = r?.assets.filter((a) => a.change) ?? [];
  const whole = r?.assets.filter((a) => a.change !== "gone") ?? [];
  return (
    <>
      <div className="mb-4 flex flex-wrap items-end gap-x-4 gap-y-2">
        <h2 className="mr-2 py-1 text-xl">{name}</h2>
        {kit && kit.releases.length > 0 && (
          <>
            <Release
              label="Release"
              value={number}
              list={kit.releases.map((k) => k.number)}
              onChange={(n) => set(n, beside === n ? 0 : beside)}
            />
            <Release
              label="beside"
              value={beside}
              none="no other"
              list={kit.releases.map((k) => k.number).filter((n) => n !== number)}
              onChange={(n) => set(number, n)}
            />
            <Button onClick={() => setDoing("use")}>Use it</Button>
          </>
        )}
        {kit && kit.match.length > 0 && here.mayLead && (
          <Button onClick={() => setDoing("release")}>Release @{(kit.releases[0]?.number ?? 0) + 1}</Button>
        )}
      </div>
      <Trouble error={kits.error ?? state.error} />
      {kit && kit.releases.length === 0 && (
        <p className="max-w-prose text-peat">Not released yet. What matches {kit.match.join(", ")} would be in it.</p>
      )}
      {r && (
        <>
          <p className="max-w-prose whitespace-pre-line wrap-anywhere">{r.note}</p>
          <p className="mb-5 text-peat">
            @{r.number} by {r.person}, <When at={r.at} />, of <Link to={`/p/${here.key}/handoffs/${r.handoff}`}>h{r.handoff}</Link>,{" "}
            {plural(whole.length, "asset")}, {size(r.size)}
            {beside === 0 && number > 1 && different.length > 0 && (
              <>
                ;{" "}
                <Link to={kitPath(here.key, name, number, number - 1)}>
                  {plural(different.length, "difference")} beside @{number - 1}
                </Link>
              </>
            )}
          </p>
          {beside > 0 && (
            <h3 className="mb-3 font-semibold">{different.length === 0 ? "Nothing is different" : `Different beside @${beside}`}</h3>
          )}
          {beside > 0 ? <KitAssets project={here.key} assets={different} large /> : <KitSheet project={here.key} assets={whole} />}
        </>
      )}
      {number > 0 && <UsedIn project={here.key} kit={name} />}
      {doing === "use" && <UseKit kit={`${here.key}/${name}`} onClose={() => setDoing(undefined)} />}
      {doing === "release" && kit && <ReleaseKit here={here} kit={kit} onClose={() => setDoing(undefined)} />}
    </>
  );
}

interface ReleaseProps {
  label: string;
  value: number;
  list: number[];
  none?: string;
  onChange: (n: number) => void;
}

function Release({ label, value, list, none, onChange }: ReleaseProps) {
  return (
    <label>
      <span className="mb-1 block text-peat">{label}</span>
      <select className={`${fieldClass} w-32`} value={value} onChange={(e) => onChange(Number(e.target.value))}>
        {none && <option value={0}>{none}</option>}
        {list.map((n) => (
          <option key={n} value={n}>
            @{n}
          </option>
        ))}
      </select>
    </label>
  );
}

/** UsedIn is where a kit is used, in all projects that one may look at. */
function UsedIn({ project, kit }: { project: string; kit: string }) {
  const found = useQuery({
    queryKey: ["project", project, "kits", "uses", kit],
    queryFn: () => ask(api.GET("/projects/{project}/kits/{kit}", { params: { path: { project, kit } } })),
  });
  const projects = useQuery({ queryKey: ["projects"], queryFn: () => ask(api.GET("/projects")) });
  const [bringing, setBringing] = useState<{ project: string; use: KitUse }>();
  const list = found.data?.uses ?? [];
  const mayHandOff = (key: string) => projects.data?.projects.some((p) => p.key === key && p.role && p.role !== "viewer" && !p.archived);
  return (
    <section aria-labelledby="used-in" className="mt-10">
      <h3 id="used-in" className="mb-2 font-semibold">
        Used in
      </h3>
      <Trouble error={found.error} />
      {found.data && list.length === 0 && <p className="text-peat">No project that you may look at uses it.</p>}
      <ul className="border-t border-line empty:hidden">
        {list.map((u) => (
          <li key={`${u.project}/${u.dir}`} className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-line py-2">
            <Link to={`/p/${u.project}/kits`} className="font-medium">
              {u.project}
            </Link>
            <span className="min-w-0 flex-1 wrap-anywhere">
              {u.dir}, @{u.release}; <span className={isBehind(u) && !u.stay ? "text-copper" : "text-peat"}>{standing(u)}</span>
              {u.changed.length > 0 && <span className="text-peat">; {plural(u.changed.length, "asset")} changed there</span>}
            </span>
            {isBehind(u) && mayHandOff(u.project) && (
              <Button
                kind="quiet"
                aria-label={`Bring @${u.newest} to ${u.dir} in ${u.project}`}
                onClick={() => setBringing({ project: u.project, use: u })}
              >
                Bring @{u.newest}
              </Button>
            )}
          </li>
        ))}
      </ul>
      {bringing && (
        <BringKit
          project={bringing.project}
          use={bringing.use}
          onClose={() => {
            setBringing(undefined);
            void found.refetch();
          }}
        />
      )}
    </section>
  );
}
