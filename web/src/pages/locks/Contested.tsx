import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, ask, type Schemas } from "../../api/client";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { assetPath, plural } from "../../parts/words";
import { useHere } from "../project/ProjectFrame";
import { span } from "./Record";

type Cell = Schemas["Contested"];

const spans = [6, 12, 26, 52];

/** Contested is for which assets people waited longest, week by week: what might be split. */
export function Contested() {
  useTitle("What people wait for");
  const here = useHere();
  const [params] = useSearchParams();
  const count = spans.find((n) => n === Number(params.get("weeks"))) ?? 12;
  const found = useQuery({
    queryKey: ["project", here.key, "locks", "contested", count],
    queryFn: () =>
      ask(api.GET("/projects/{project}/locks/contested", { params: { path: { project: here.key }, query: { weeks: count } } })),
  });
  if (!found.data) return <Trouble error={found.error} />;
  const weeks = lastWeeks(count);
  const assets = byAsset(found.data.contested);
  const most = Math.max(1, ...found.data.contested.map((c) => c.seconds));
  return (
    <>
      <p className="max-w-prose text-peat">
        How long people waited in line, together, in each week. What is contested week after week may be worth splitting, so that two can
        work on it.
      </p>
      <p className="mt-2 mb-4 text-peat">
        {spans.map((n) => (
          <Link key={n} to={`?weeks=${n}`} replace aria-current={n === count} className={`mr-3 ${n === count ? "text-ink" : ""}`}>
            {n} weeks
          </Link>
        ))}
      </p>
      {assets.length === 0 && <p className="text-peat">Nobody has waited for anything in these weeks.</p>}
      {assets.length > 0 && (
        <div className="relative overflow-x-auto" tabIndex={0} role="region" aria-label="Week by week">
          <table className="border-collapse text-left">
            <thead className="text-peat">
              <tr>
                <th className="py-1 pr-6 font-normal">Asset</th>
                {weeks.map((w, i) => (
                  <th key={w} className="px-1 py-1 text-center font-normal whitespace-nowrap">
                    {i % Math.ceil(count / 12) === 0 ? (
                      new Date(w).toLocaleDateString("en", { day: "numeric", month: "short" })
                    ) : (
                      <span className="sr-only">{w}</span>
                    )}
                  </th>
                ))}
                <th className="py-1 pl-6 text-right font-normal">Together</th>
              </tr>
            </thead>
            <tbody>
              {assets.map(([path, cells]) => {
                const total = cells.reduce((sum, c) => sum + c.seconds, 0);
                return (
                  <tr key={path} className="border-t border-line">
                    <td className="max-w-80 py-2 pr-6">
                      <Link to={assetPath(here.key, path)} className="font-medium break-all">
                        {path}
                      </Link>
                    </td>
                    {weeks.map((w) => (
                      <Bar
                        key={w}
                        cell={cells.find((c) => c.week === w)}
                        most={most}
                        width={count > 12 ? "w-3" : count > 6 ? "w-14" : "w-24"}
                      />
                    ))}
                    <td className="py-2 pl-6 text-right whitespace-nowrap">
                      {span(total)}
                      <span className="block text-peat">
                        {plural(
                          cells.reduce((sum, c) => sum + c.waits, 0),
                          "wait",
                        )}
                      </span>
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </div>
      )}
    </>
  );
}

/** Bar is one asset in one week: as high as people waited long, with that in words. */
function Bar({ cell, most, width }: { cell: Cell | undefined; most: number; width: string }) {
  const words = cell ? `${span(cell.seconds)}, ${cell.people === 1 ? "1 person" : `${cell.people} people`}` : "nobody waited";
  return (
    <td className="px-1 align-bottom" title={cell && words}>
      <span className={`flex h-14 ${width} flex-col items-center justify-end border-b border-line`}>
        {cell && width !== "w-3" && (
          <span className="text-xs text-peat" aria-hidden>
            {span(cell.seconds)}
          </span>
        )}
        {cell && (
          <span className="w-full rounded-t-md bg-copper" style={{ height: `${Math.max(4, (cell.seconds / most) * 62)}%` }} aria-hidden />
        )}
        <span className="sr-only">{words}</span>
      </span>
    </td>
  );
}

function byAsset(list: Cell[]): [string, Cell[]][] {
  const found = new Map<string, Cell[]>();
  for (const c of list) found.set(c.path, [...(found.get(c.path) ?? []), c]);
  return [...found];
}

/** lastWeeks are the Mondays of the last weeks, the present one last (in UTC, as the service counts). */
function lastWeeks(count: number): string[] {
  const now = new Date();
  const monday = Date.UTC(now.getUTCFullYear(), now.getUTCMonth(), now.getUTCDate() - ((now.getUTCDay() + 6) % 7));
  return Array.from({ length: count }, (_, i) => new Date(monday - (count - 1 - i) * 7 * 86_400_000).toISOString().slice(0, 10));
}
