import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ask } from "../../api/client";
import { Holder } from "../../parts/Holder";
import { Picture } from "../../parts/Picture";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { Typed } from "../../parts/Typed";
import { assetPath, firstLine, size, When } from "../../parts/words";
import { Twice } from "./Twice";
import { branchPath } from "../branches/useBranches";
import { useHere } from "../project/ProjectFrame";

/** FindPage finds as one types: names, notes, tasks, people, milestones, and what is in the files. */
export function FindPage() {
  const here = useHere();
  const [params, setParams] = useSearchParams();
  const text = params.get("text") ?? "";
  useTitle(text ? `Find ${text}` : "Find");
  const found = useQuery({
    queryKey: ["project", here.key, "find", text],
    enabled: text.trim() !== "",
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.GET("/projects/{project}/find", { params: { path: { project: here.key }, query: { text, limit: 50 } } })),
  });
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => place.current?.querySelector("input")?.focus(), []);
  const f = text.trim() ? found.data : undefined;
  const nothing = f && f.assets.length + f.handoffs.length + f.milestones.length + f.people.length + f.branches.length === 0;
  return (
    <>
      <h1>Find</h1>
      <div ref={place} className="mt-3 mb-6 max-w-2xl">
        <Typed
          type="search"
          aria-label="Words to find"
          placeholder="A name, a word of a note, a task, 4096 pixels, 48 kHz, R4 …"
          className="py-2 text-lg"
          value={text}
          onChange={(v) => setParams(v ? { text: v } : {}, { replace: true })}
        />
      </div>
      <Trouble error={found.error} />
      <p role="status" className="text-peat">
        {nothing && `Nothing fits “${text}”.`}
        {!text.trim() && "Names, notes, tasks, people, milestones, branches, and what is in the files: the best first."}
      </p>
      {f && f.milestones.length + f.people.length + f.branches.length > 0 && (
        <ul className="mb-6 flex flex-wrap gap-x-5 gap-y-1">
          {f.milestones.map((m) => (
            <li key={m.name}>
              <Link to={`/p/${here.key}/handoffs/${m.handoff}`} className="font-medium">
                {m.name}
              </Link>{" "}
              <span className="text-peat">milestone, h{m.handoff}</span>
            </li>
          ))}
          {f.branches.map((b) => (
            <li key={b}>
              <Link to={branchPath(here.key, b)} className="font-medium">
                {b}
              </Link>{" "}
              <span className="text-peat">branch</span>
            </li>
          ))}
          {f.people.map((p) => (
            <li key={p}>
              <Link to={`/p/${here.key}/handoffs?author=${encodeURIComponent(p)}`} className="font-medium">
                {p}
              </Link>{" "}
              <span className="text-peat">person</span>
            </li>
          ))}
        </ul>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)] gap-x-12 gap-y-8 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        {f && f.assets.length > 0 && (
          <section aria-labelledby="found-assets">
            <h2 id="found-assets" className="mb-2">
              Assets
            </h2>
            <ul className="divide-y divide-line border-y border-line">
              {f.assets.map((a) => (
                <li key={a.path} className="flex items-center gap-3 py-2">
                  <Picture project={here.key} path={a.path} version={a.newest} edge={96} className="size-12 shrink-0 rounded-md" />
                  <span className="min-w-0 flex-1">
                    <Link to={assetPath(here.key, a.path)} className="font-medium wrap-anywhere">
                      {a.path}
                    </Link>
                    <span className="block text-peat">
                      {a.why && <span className="text-ink">{a.why}; </span>}v{a.newest}, {size(a.size)}, {a.author}
                      {a.at && (
                        <>
                          , <When at={a.at} />
                        </>
                      )}
                    </span>
                  </span>
                  {a.lock && <Holder lock={a.lock} me={here.me} />}
                </li>
              ))}
            </ul>
          </section>
        )}
        {f && f.handoffs.length > 0 && (
          <section aria-labelledby="found-handoffs">
            <h2 id="found-handoffs" className="mb-2">
              Handoffs
            </h2>
            <ul className="divide-y divide-line border-y border-line">
              {f.handoffs.map((h) => (
                <li key={h.number} className="py-2">
                  <Link to={`/p/${here.key}/handoffs/${h.number}`} className="font-medium">
                    {firstLine(h.note)}
                  </Link>
                  <span className="block text-peat">
                    h{h.number}, {h.author}, <When at={h.at} />
                    {h.tasks.length > 0 && `, ${h.tasks.join(", ")}`}
                  </span>
                </li>
              ))}
            </ul>
          </section>
        )}
      </div>
      {!text.trim() && <Twice here={here} />}
    </>
  );
}
