import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, ask, fileAddress, type Schemas } from "../../api/client";
import { Button } from "../../parts/Button";
import { Picture } from "../../parts/Picture";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { Typed } from "../../parts/Typed";
import { baseName, plural, size } from "../../parts/words";
import { Shown } from "../asset/Shown";
import { Difference } from "../compare/Difference";
import { useCompare } from "../compare/useCompare";

type Exhibit = Schemas["Exhibit"];

/** ShownPage is what somebody outside sees by the link of a showing: that, and nothing else. */
export function ShownPage() {
  const secret = useParams()["secret"]!;
  const found = useQuery({
    queryKey: ["shown", secret],
    queryFn: () => ask(api.GET("/shown/{secret}", { params: { path: { secret } } })),
    staleTime: Infinity,
    refetchOnWindowFocus: false,
  });
  const shown = found.data;
  return (
    <>
      <header className="border-b border-line px-4 py-3 sm:px-8">
        <span className="font-semibold">Kettle Tarn</span>
      </header>
      <main tabIndex={-1} className="mx-auto max-w-7xl px-4 py-6 outline-none sm:px-8">
        <Trouble error={found.error} />
        {shown && <One shown={shown} secret={secret} />}
      </main>
    </>
  );
}

function One({ shown, secret }: { shown: Exhibit; secret: string }) {
  if (!shown.path) return <State shown={shown} secret={secret} />;
  if (shown.with) return <Compared shown={shown} />;
  return <Asset shown={shown} path={shown.path} version={shown.version!} />;
}

/** Head says what one looks at, who shows it, and how long. */
function Head({ shown, title, children }: { shown: Exhibit; title: string; children?: ReactNode }) {
  useTitle(title);
  const until = new Date(shown.until).toLocaleDateString("en", { day: "numeric", month: "long", year: "numeric" });
  return (
    <div className="mb-5">
      <h1 className="break-all">{title}</h1>
      <p className="text-peat">
        {children}
        {shown.by} of {shown.project} shows this to {shown.for}, until {until}.
      </p>
    </div>
  );
}

function Asset({ shown, path, version }: { shown: Exhibit; path: string; version: number }) {
  return (
    <>
      <Head shown={shown} title={baseName(path)}>
        Version {version}.{" "}
      </Head>
      <Shown here={{ key: shown.project }} path={path} version={version} />
      <Take shown={shown} path={path} version={version} />
    </>
  );
}

/** Take is the file itself, where that is given along. */
function Take({ shown, path, version }: { shown: Exhibit; path: string; version: number }) {
  if (!shown.files) return null;
  return (
    <p className="mt-4">
      <a href={fileAddress(shown.project, path, version)} download>
        Download {baseName(path)}
      </a>
    </p>
  );
}

function Compared({ shown }: { shown: Exhibit }) {
  const sides = { path: shown.path!, a: shown.version!, with: shown.with!, b: shown.with_version! };
  const found = useCompare(shown.project, sides);
  const same = sides.path === sides.with;
  return (
    <>
      <Head shown={shown} title={`${baseName(sides.with)}, compared`}>
        {same
          ? `Before: version ${sides.a}. After: version ${sides.b}. `
          : `Before: ${baseName(sides.path)}, version ${sides.a}. After: ${baseName(sides.with)}, version ${sides.b}. `}
      </Head>
      <Trouble error={found.error} />
      {found.isPending && <p className="text-peat">Looking at both …</p>}
      {found.data && <Difference here={{ key: shown.project }} sides={sides} comparison={found.data.comparison} />}
      <Take shown={shown} path={sides.with} version={sides.b} />
    </>
  );
}

/** State is all of a state: its assets as pictures, and one of them at full size. */
function State({ shown, secret }: { shown: Exhibit; secret: string }) {
  const [params] = useSearchParams();
  const path = params.get("path");
  const version = Number(params.get("version"));
  if (path && version > 0) {
    return (
      <>
        <p className="mb-2">
          <Link to="?">All of {shown.state}</Link>
        </p>
        <Asset shown={shown} path={path} version={version} />
      </>
    );
  }
  return (
    <>
      <Head shown={shown} title={shown.state ?? `h${shown.handoff}`}>
        {plural(shown.assets ?? 0, "asset")}, {size(shown.size ?? 0)}.{" "}
      </Head>
      <Assets shown={shown} secret={secret} />
    </>
  );
}

function Assets({ shown, secret }: { shown: Exhibit; secret: string }) {
  const [search, setSearch] = useState("");
  const found = useInfiniteQuery({
    queryKey: ["shown", secret, "assets", search],
    initialPageParam: "",
    queryFn: ({ pageParam: after }) =>
      ask(api.GET("/shown/{secret}/assets", { params: { path: { secret }, query: { after, search, limit: 120 } } })),
    getNextPageParam: (last) => last.next || undefined,
    staleTime: Infinity,
  });
  const list = found.data?.pages.flatMap((p) => p.assets) ?? [];
  return (
    <>
      <div className="mb-4 max-w-md">
        <Typed type="search" aria-label="Part of a name" placeholder="Part of a name" value={search} onChange={setSearch} />
      </div>
      <Trouble error={found.error} />
      {found.isSuccess && list.length === 0 && <p className="text-peat">Nothing here has that in its name.</p>}
      <ul className="grid grid-cols-[repeat(auto-fill,minmax(10rem,1fr))] gap-4">
        {list.map((a) => (
          <li key={a.path} className="min-w-0">
            <Link to={`?${new URLSearchParams({ path: a.path, version: String(a.version) })}`} className="block no-underline">
              <Picture project={shown.project} path={a.path} version={a.version} edge={320} className="aspect-square w-full rounded-lg" />
              <span className="mt-1 block truncate font-medium" title={a.path}>
                {baseName(a.path)}
              </span>
              <span className="block truncate text-sm text-peat">
                {a.path.includes("/") && `${a.path.slice(0, a.path.lastIndexOf("/"))}, `}
                {size(a.size)}
              </span>
            </Link>
          </li>
        ))}
      </ul>
      {found.hasNextPage && (
        <Button className="mt-6" disabled={found.isFetchingNextPage} onClick={() => void found.fetchNextPage()}>
          Show more
        </Button>
      )}
    </>
  );
}
