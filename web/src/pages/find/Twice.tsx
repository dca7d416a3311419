import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask } from "../../api/client";
import { kindOf } from "../../api/words.gen";
import { Picture } from "../../parts/Picture";
import { Trouble } from "../../parts/Trouble";
import { assetPath, baseName, plural, size } from "../../parts/words";
import type { Here } from "../project/ProjectFrame";

/** Twice is what the project has more than once, byte for byte. */
export function Twice({ here }: { here: Here }) {
  const found = useQuery({
    queryKey: ["project", here.key, "twice"],
    staleTime: 60_000,
    queryFn: () => ask(api.GET("/projects/{project}/twice", { params: { path: { project: here.key }, query: { limit: 20 } } })),
  });
  const t = found.data;
  if (!t) return <Trouble error={found.error} />;
  return (
    <section aria-labelledby="twice" className="mt-10">
      <h2 id="twice" className="mb-1">
        There more than once
      </h2>
      <p className="mb-3 text-peat">
        {t.total === 0
          ? "Nothing is there twice."
          : `${plural(t.total, "file")}, byte for byte, which take ${size(t.wasted)} more on each disk than once would.`}
      </p>
      <ul className="divide-y divide-line">
        {t.contents.map((c) => (
          <li key={c.assets[0]?.path} className="flex gap-4 py-2.5">
            {c.assets[0] && (
              <Picture project={here.key} path={c.assets[0].path} version={c.assets[0].newest} edge={96} className="size-14 rounded-md" />
            )}
            <span className="min-w-0">
              <span className="text-peat">
                {plural(c.count, "asset")} of {size(c.size)}
              </span>
              {c.assets.map((a) => (
                <Link key={a.path} to={assetPath(here.key, a.path)} className="block wrap-anywhere">
                  {a.path}
                </Link>
              ))}
              {c.count > c.assets.length && <span className="text-peat">and {(c.count - c.assets.length).toLocaleString("en")} more</span>}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** SameAs says what else has the content of an asset. */
export function SameAs({ here, path }: { here: Here; path: string }) {
  const found = useQuery({
    queryKey: ["project", here.key, "twice", path],
    staleTime: 60_000,
    queryFn: () => ask(api.GET("/projects/{project}/twice", { params: { path: { project: here.key }, query: { path } } })),
    retry: false,
  });
  const same = found.data?.contents[0];
  if (!same) return null;
  return (
    <p className="mt-3 text-peat">
      The same file, byte for byte, is also{" "}
      {same.assets.slice(0, 3).map((a, i) => (
        <span key={a.path}>
          {i > 0 && ", "}
          <Link to={assetPath(here.key, a.path)} className="wrap-anywhere">
            {a.path}
          </Link>
        </span>
      ))}
      {same.count > 3 && ` and ${same.count - 3} more`}.
    </p>
  );
}

/** LooksLike is what looks or sounds like an asset. */
export function LooksLike({ here, path }: { here: Here; path: string }) {
  const kind = kindOf(path);
  const found = useQuery({
    queryKey: ["project", here.key, "twice", path, "like"],
    enabled: kind === "texture" || kind === "sound",
    staleTime: 60_000,
    queryFn: () => ask(api.GET("/projects/{project}/alike", { params: { path: { project: here.key }, query: { path, limit: 8 } } })),
    retry: false,
  });
  const list = found.data?.assets ?? [];
  if (list.length === 0) return null;
  return (
    <section aria-labelledby="alike" className="mt-5">
      <h2 id="alike" className="mb-2">
        {kind === "sound" ? "Sounds like it" : "Looks like it"}
      </h2>
      <ul className="flex flex-wrap gap-3">
        {list.map((a) => (
          <li key={a.path} className="w-28">
            <Link to={assetPath(here.key, a.path)} title={a.path} className="block">
              <Picture project={here.key} path={a.path} version={a.newest} edge={320} className="h-24 w-28 rounded-md" />
              <span className="block truncate text-sm">{baseName(a.path)}</span>
            </Link>
          </li>
        ))}
      </ul>
    </section>
  );
}
