import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, hasPicture, type Schemas } from "../../api/client";
import { useMe } from "../../api/me";
import { kindOf } from "../../api/words.gen";
import { Button } from "../../parts/Button";
import { Picture } from "../../parts/Picture";
import { Page, Shore } from "../../parts/Shore";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { plural, size, When } from "../../parts/words";
import { ForYou } from "./ForYou";
import { StartProject } from "./StartProject";

/** The first page: one's projects, and what happened in them that concerns one. */
export function ProjectsPage() {
  useTitle("Projects");
  const me = useMe().data?.handle;
  const projects = useQuery({ queryKey: ["projects"], queryFn: () => ask(api.GET("/projects")) });
  const list = (projects.data?.projects ?? []).filter((p) => !p.archived);
  const archived = (projects.data?.projects ?? []).filter((p) => p.archived);
  return (
    <>
      <Shore />
      <Page>
        <div className="grid grid-cols-[minmax(0,1fr)] gap-x-12 gap-y-10 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
          <section aria-labelledby="projects">
            <h1 id="projects" className="mb-5">
              Projects
            </h1>
            <Trouble error={projects.error} />
            {projects.data?.projects.length === 0 && (
              <p className="max-w-prose text-peat">
                You are in no project yet. Somebody who leads one can add you; or make one of a folder that you have.
              </p>
            )}
            <ul className="grid grid-cols-[repeat(auto-fill,minmax(min(100%,17rem),1fr))] gap-5">
              {list.map((p, i) => (
                <li key={p.key}>
                  <Card project={p} cover={i < covered} />
                </li>
              ))}
            </ul>
            {archived.length > 0 && (
              <p className="mt-6 text-peat">
                Archived:{" "}
                {archived.map((p, i) => (
                  <span key={p.key}>
                    {i > 0 && ", "}
                    <Link to={`/p/${p.key}`}>{p.key}</Link>
                  </span>
                ))}
              </p>
            )}
            {projects.data?.deleted.map((d) => (
              <Deleted key={d.key} project={d} />
            ))}
            {me && <StartProject me={me} />}
          </section>
          <ForYou />
        </div>
      </Page>
    </>
  );
}

/** Deleted is a project that can still be brought back. */
function Deleted({ project: d }: { project: Schemas["DeletedProject"] }) {
  const queries = useQueryClient();
  const back = useMutation({
    mutationFn: () => ask(api.POST("/restore", { body: { key: d.key } })),
    onSuccess: () => queries.invalidateQueries(),
  });
  return (
    <div className="mt-4 border-l-3 border-rust bg-bank px-3 py-2">
      <p>
        {d.by} deleted <strong>{d.key}</strong>, <When at={d.deleted} />. It goes for good on{" "}
        {new Date(d.goes).toLocaleDateString("en", { day: "numeric", month: "long", year: "numeric" })}.
      </p>
      {d.role === "owner" ? (
        <Button className="mt-2" disabled={back.isPending} onClick={() => back.mutate()}>
          Bring {d.key} back
        </Button>
      ) : (
        <p className="text-peat">Until then an owner can bring it back.</p>
      )}
      <Trouble error={back.error} />
    </div>
  );
}

/** So many projects have a cover, since each asks for its own, out of so many of the latest handoffs. */
const covered = 24;
const latestOf = 8;

function Card({ project: p, cover }: { project: Schemas["Project"]; cover: boolean }) {
  return (
    <Link to={`/p/${p.key}`} className="block overflow-hidden rounded-lg border border-line bg-bank no-underline hover:border-copper">
      {cover && <Cover project={p} />}
      <span className="block px-4 py-3">
        <span className="flex items-baseline gap-3">
          <span className="text-lg font-semibold">{p.key}</span>
          <span className="ml-auto text-peat">
            {p.role || "not a member"}
            {p.latest && (
              <>
                , latest <When at={p.latest} />
              </>
            )}
          </span>
        </span>
        <span className="block text-peat">
          {plural(p.assets, "asset")}, {size(p.size)}, {plural(p.handoffs, "handoff")}
          {p.locks > 0 && (
            <>
              , <span className="text-ice">{p.locks} held</span>
            </>
          )}
        </span>
      </span>
    </Link>
  );
}

/** What says most of a project at a glance comes first. */
const telling = ["texture", "model", "board", "schematic", "sound"];
const rank = (path: string) => {
  const i = telling.indexOf(kindOf(path));
  return i < 0 ? telling.length : i;
};

/** Cover is what came in last, in up to three pictures. */
function Cover({ project: p }: { project: Schemas["Project"] }) {
  const latest = useQuery({
    queryKey: ["cover", p.key, p.latest ?? ""],
    enabled: p.role !== "" && p.handoffs > 0,
    staleTime: 60_000,
    queryFn: () =>
      ask(api.GET("/projects/{project}/handoffs", { params: { path: { project: p.key }, query: { limit: latestOf, assets: 4 } } })),
  });
  const seen = (latest.data?.handoffs ?? [])
    .flatMap((h) => h.assets)
    .filter((a) => a.change !== "gone" && hasPicture(a.path))
    .filter((a, i, all) => all.findIndex((b) => b.path === a.path) === i)
    .sort((a, b) => rank(a.path) - rank(b.path))
    .slice(0, 3);
  return (
    <span className="flex h-32 gap-px bg-stone" aria-hidden>
      {seen.map((a) => (
        <Picture key={a.path} project={p.key} path={a.now || a.path} version={a.version} edge={320} className="h-full min-w-0 flex-1" />
      ))}
    </span>
  );
}
