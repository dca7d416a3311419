import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, ask, type Schemas } from "../../api/client";
import { fieldClass } from "../../parts/Ask";
import { Labels } from "../../parts/Labels";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { firstLine, plural, size, When } from "../../parts/words";
import { useHere } from "../project/ProjectFrame";
import { usePins } from "./usePins";

type Pinned = Schemas["PinnedCommit"];

/** CodePage is what the code's commits pin, and which handoffs lie between two of them. Which two is in its address. */
export function CodePage() {
  useTitle("Code");
  const here = useHere();
  const [params, setParams] = useSearchParams();
  const found = usePins(here.key);
  if (!found.data) return <Trouble error={found.error} />;
  const commits = found.data.commits;
  if (commits.length === 0) {
    return (
      <>
        <h1 className="mb-4">Code</h1>
        <p className="max-w-prose text-peat">
          No commit of the code names a state of these assets yet. In a workspace beside the code, <code>tarn pin</code> writes one into
          tarn.pin; commit it with the code. With <code>tarn pin --hook</code> the commits that move it show here by themselves.
        </p>
      </>
    );
  }
  const named = (name: string) => commits.find((c) => c.commit === params.get(name));
  const to = named("to") ?? commits[0]!;
  const from = named("from") ?? commits[Math.min(commits.indexOf(to) + 1, commits.length - 1)]!;
  const choose = (name: string, commit: string) => {
    const next = new URLSearchParams({ from: from.commit, to: to.commit });
    next.set(name, commit);
    setParams(next, { replace: true });
  };
  return (
    <>
      <h1 className="mb-4">Code</h1>
      <form className="mb-6 flex flex-wrap items-end gap-3" aria-label="Which commits" onSubmit={(e) => e.preventDefault()}>
        <Choice label="Between commit" commits={commits} value={from} onChange={(c) => choose("from", c)} />
        <Choice label="and commit" commits={commits} value={to} onChange={(c) => choose("to", c)} />
      </form>
      <Between from={from} to={to} />
      <h2 className="mt-10 mb-3">Commits that moved the pin</h2>
      <table className="w-full border-collapse text-left">
        <thead className="text-peat">
          <tr className="border-b border-line">
            <th className="py-1.5 pr-4 font-normal">Commit</th>
            <th className="py-1.5 pr-4 font-normal">By</th>
            <th className="py-1.5 pr-4 font-normal">When</th>
            <th className="py-1.5 pr-4 font-normal">Pins</th>
            <th className="py-1.5 font-normal">Since the one before</th>
          </tr>
        </thead>
        <tbody>
          {commits.map((c, i) => {
            const before = commits[i + 1];
            return (
              <tr key={c.commit} className="border-b border-line align-top">
                <td className="py-2 pr-4">
                  <code className="mr-2 text-peat" title={c.commit}>
                    {c.commit.slice(0, 10)}
                  </code>
                  <span className="font-medium">{c.subject}</span>
                </td>
                <td className="py-2 pr-4">{c.author}</td>
                <td className="py-2 pr-4">
                  <When at={c.at} />
                </td>
                <td className="py-2 pr-4">
                  <Link to={`/p/${here.key}/handoffs/${c.handoff}`}>h{c.handoff}</Link>
                </td>
                <td className="py-2">
                  {before ? (
                    <Link to={`?from=${before.commit}&to=${c.commit}`}>{distance(before, c)}</Link>
                  ) : (
                    <span className="text-peat">the first one</span>
                  )}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </>
  );
}

function distance(from: Pinned, to: Pinned): string {
  const n = to.handoff - from.handoff;
  if (n === 0) return "the same assets";
  return n > 0 ? `${plural(n, "handoff")} more` : `${plural(-n, "handoff")} fewer`;
}

function Choice({
  label,
  commits,
  value,
  onChange,
}: {
  label: string;
  commits: Pinned[];
  value: Pinned;
  onChange: (commit: string) => void;
}) {
  return (
    <label className="min-w-0">
      <span className="mb-1 block text-peat">{label}</span>
      <select className={`${fieldClass} max-w-96`} value={value.commit} onChange={(e) => onChange(e.target.value)}>
        {commits.map((c) => (
          <option key={c.commit} value={c.commit}>{`${c.commit.slice(0, 10)}  h${c.handoff}  ${c.subject}`}</option>
        ))}
      </select>
    </label>
  );
}

const shown = 500;

/** Between lists the handoffs that one commit's assets have and the other's have not. */
function Between({ from, to }: { from: Pinned; to: Pinned }) {
  const here = useHere();
  const low = Math.min(from.handoff, to.handoff);
  const high = Math.max(from.handoff, to.handoff);
  const list = useQuery({
    queryKey: ["project", here.key, "handoffs", "between", low, high],
    enabled: high > low,
    queryFn: () =>
      ask(
        api.GET("/projects/{project}/handoffs", {
          params: { path: { project: here.key }, query: { before: high + 1, limit: Math.min(high - low, shown) } },
        }),
      ),
  });
  if (high === low) return <p>Both commits go with the same assets, h{high}.</p>;
  const back = to.handoff < from.handoff;
  return (
    <section aria-label="Handoffs between">
      <Trouble error={list.error} />
      <p className="mb-2 text-lg">
        {back ? "Going back, the code loses " : "The code gains "}
        <strong className="font-semibold">{plural(high - low, "handoff")}</strong> of assets{" "}
        <span className="text-peat">({high - low === 1 ? `h${high}` : `h${low + 1} to h${high}`})</span>
      </p>
      <ol>
        {list.data?.handoffs
          .filter((h) => h.number > low)
          .map((h) => (
            <li key={h.number} className="grid grid-cols-[3.5rem_1fr_auto] gap-x-2 border-b border-line py-1.5">
              <span className="text-peat">h{h.number}</span>
              <span>
                <Link to={`/p/${here.key}/handoffs/${h.number}`} className="font-medium">
                  {firstLine(h.note)}
                </Link>{" "}
                <Labels handoff={h} />
                <span className="block text-peat">
                  {h.author}, <When at={h.at} />
                </span>
              </span>
              <span className="text-peat">
                {plural(h.count, "asset")}, {size(h.size)}
              </span>
            </li>
          ))}
      </ol>
      {high - low > shown && <p className="mt-2 text-peat">The latest {shown} are shown.</p>}
    </section>
  );
}
