import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useState } from "react";
import { Link } from "react-router";
import { api, ask, pictureAddress, type Schemas } from "../../api/client";
import { LineNumber } from "../../parts/LineNumber";
import { markedPages, OnPage, OnSheet, usePoints } from "../../parts/Pointing";
import { Picture } from "../../parts/Picture";
import { Trouble } from "../../parts/Trouble";
import { When } from "../../parts/words";
import { Pictures } from "../compare/Pictures";
import { Sounds } from "../compare/Sounds";
import { drawnOf } from "../compare/useCompare";
import type { At } from "../project/ProjectFrame";

const Models = lazy(() => import("../compare/Models"));

/** Shown is one version of the asset at path as its kind is best looked at, and what can be said of it. */
export function Shown({ here, path, version }: { here: At; path: string; version: number }) {
  const found = useQuery({
    queryKey: ["project", here.key, "look", path, version],
    queryFn: () => ask(api.GET("/projects/{project}/look", { params: { path: { project: here.key }, query: { path, version } } })),
    staleTime: Infinity,
  });
  const look = found.data;
  return (
    <>
      {found.error ? <Trouble error={found.error} /> : <View here={here} path={path} version={version} look={look} />}
      {look?.trouble && <p className="mt-2 text-rust">It can’t be read: {look.trouble}.</p>}
      {look && look.facts.length > 0 && (
        <dl className="mt-3 flex flex-wrap gap-x-6 gap-y-1" aria-label="Facts">
          {look.facts.map((f) => (
            <div key={f.name}>
              <dt className="inline text-peat">{f.name} </dt>
              <dd className="inline">{f.value}</dd>
            </div>
          ))}
        </dl>
      )}
    </>
  );
}

function View({ here, path, version, look }: { here: At; path: string; version: number; look: Schemas["Report"] | undefined }) {
  const drawn = (name: string) => drawnOf(here.key, path, version, name);
  if (look?.files.includes("mesh.bin")) {
    return (
      <Suspense fallback={<p className="h-[30rem] text-peat">Loading the model …</p>}>
        <Models before={drawn("mesh.bin")} />
      </Suspense>
    );
  }
  if (look?.kind === "sound") return <Sounds sides={[{ report: look, address: drawn }]} />;
  if (look?.table) return <Table table={look.table} />;
  if (look?.format === "text" || look?.kind === "data") return <Origins here={here} path={path} version={version} />;
  if ((look?.pages ?? 0) > 1) return <Pages key={version} count={look!.pages!} drawn={drawn} />;
  if (look?.files.includes("whole.png")) {
    const whole = drawn("whole.png");
    return (
      <OnSheet shown={look.frame} of={look}>
        <Pictures
          key={version}
          after={whole}
          channels={look.kind === "texture"}
          {...(look.width &&
            look.height && { until: { src: pictureAddress(here.key, path, version, 320), ratio: look.width / look.height } })}
          {...(look.files.includes("lit.png") && { lit: [whole, drawn("lit.png")] as [string, string] })}
        />
      </OnSheet>
    );
  }
  return <Picture project={here.key} path={path} version={version} edge={320} className="aspect-[4/3] w-full rounded-lg" />;
}

/** Pages are the pages of a document, one at a time. */
function Pages({ count, drawn }: { count: number; drawn: (name: string) => string }) {
  const [page, setPage] = useState(1);
  const marked = markedPages(usePoints());
  return (
    <>
      <nav className="mb-3 flex flex-wrap gap-1.5" aria-label="Pages">
        {Array.from({ length: count }, (_, i) => i + 1).map((p) => (
          <button
            key={p}
            type="button"
            aria-current={p === page}
            onClick={() => setPage(p)}
            className={`rounded-md border px-2.5 py-1 ${p === page ? "border-copper font-semibold" : "border-line text-peat hover:text-ink"}`}
          >
            {p}
            {marked.has(p) && <span className="ml-1.5 text-xs text-copper">remarks</span>}
          </button>
        ))}
      </nav>
      <OnPage page={page}>
        <Pictures key={page} after={drawn(`page-${page}.png`)} channels={false} />
      </OnPage>
    </>
  );
}

function Table({ table }: { table: Schemas["Table"] }) {
  return (
    <div className="max-h-[34rem] overflow-auto rounded-lg border border-line">
      <table className="w-full border-collapse text-left">
        <thead className="sticky top-0 bg-stone">
          <tr>
            {table.heads.map((h, i) => (
              <th key={i} className="px-2.5 py-1 font-semibold">
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {table.cells.map((row, i) => (
            <tr key={i} className="border-t border-line/60">
              {row.map((c, k) => (
                <td key={k} className="px-2.5 py-1">
                  {c}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {table.rows > table.cells.length && <p className="px-2.5 py-1 text-peat">{table.rows.toLocaleString("en")} rows in all</p>}
    </div>
  );
}

/** Origins is a text, and beside each line who changed it last. */
function Origins({ here, path, version }: { here: At; path: string; version: number }) {
  const found = useQuery({
    queryKey: ["project", here.key, "lines", path, version],
    queryFn: () => ask(api.GET("/projects/{project}/lines", { params: { path: { project: here.key }, query: { path, version } } })),
    staleTime: Infinity,
    retry: false,
  });
  if (!found.data) return <Picture project={here.key} path={path} version={version} edge={320} className="h-24 w-full rounded-lg" />;
  let last = 0;
  const told = found.data.lines.some((l) => l.author); // whom a link shows it to is not
  return (
    <div className="max-h-[34rem] overflow-auto rounded-lg border border-line bg-bank">
      <table className="w-full border-collapse text-xs leading-5" aria-label={told ? "Who changed each line last" : "Text"}>
        <tbody>
          {found.data.lines.map((l) => {
            const fresh = l.version !== last;
            last = l.version;
            return (
              <tr key={l.line} className={fresh ? "border-t border-line/60" : ""}>
                {told && (
                  <td className="w-44 truncate px-2 text-peat" title={l.note}>
                    {fresh && (
                      <>
                        <Link to={`?version=${l.version}`} replace>
                          v{l.version}
                        </Link>{" "}
                        {l.author}, <When at={l.at} />
                      </>
                    )}
                  </td>
                )}
                <td className="w-10 px-3 text-right font-mono text-peat select-none">
                  <LineNumber line={l.line} />
                </td>
                <td className="pr-2 font-mono break-all whitespace-pre-wrap">{l.text}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </div>
  );
}
