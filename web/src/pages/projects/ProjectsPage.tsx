import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask } from "../../api/client";
import { Page, Shore } from "../../parts/Shore";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { plural, size, When } from "../../parts/words";

export function ProjectsPage() {
  useTitle("Projects");
  const projects = useQuery({ queryKey: ["projects"], queryFn: () => ask(api.GET("/projects")) });
  return (
    <>
      <Shore />
      <Page>
        <h1 className="mb-5">Projects</h1>
        <Trouble error={projects.error} />
        {projects.data?.projects.length === 0 && (
          <p className="max-w-prose text-peat">
            You are in no project yet. Ask a lead to add you, or make one of a folder that you have:{" "}
            <code className="text-ink">tarn start KEY</code>.
          </p>
        )}
        <ul className="grid gap-px overflow-hidden rounded-lg border border-line bg-line">
          {projects.data?.projects.map((p) => (
            <li key={p.key} className="bg-bank">
              <Link
                to={`/p/${p.key}`}
                className="grid grid-cols-[1fr_auto] items-baseline gap-x-6 px-5 py-4 no-underline hover:bg-stone sm:grid-cols-[14rem_1fr_auto]"
              >
                <span className="text-lg font-semibold">{p.key}</span>
                <span className="text-peat max-sm:order-last max-sm:col-span-2">
                  {plural(p.assets, "asset")}, {size(p.size)}, {plural(p.handoffs, "handoff")}
                  {p.locks > 0 && (
                    <>
                      , <span className="text-ice">{p.locks} held</span>
                    </>
                  )}
                </span>
                <span className="text-peat">
                  {p.role || "not a member"}
                  {p.latest && (
                    <>
                      , latest <When at={p.latest} />
                    </>
                  )}
                </span>
              </Link>
            </li>
          ))}
        </ul>
      </Page>
    </>
  );
}
