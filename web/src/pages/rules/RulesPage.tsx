import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schemas } from "../../api/client";
import { Button } from "../../parts/Button";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { plural, size } from "../../parts/words";
import { useHere, type Here } from "../project/ProjectFrame";
import { Requests } from "./Requests";
import { RulesForm } from "./RulesForm";
import { TestPath } from "./TestPath";

/** What is tracked and what needs its lock, what people ask of the leads, and why a path is what it is. */
export function RulesPage() {
  useTitle("Rules");
  const here = useHere();
  const [editing, setEditing] = useState(false);
  const found = useQuery({
    queryKey: ["project", here.key, "rules"],
    queryFn: () => ask(api.GET("/projects/{project}/rules", { params: { path: { project: here.key } } })),
  });
  const rules = found.data;
  if (!rules) return <Trouble error={found.error} />;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-x-12 gap-y-8 lg:grid-cols-[minmax(0,3fr)_minmax(20rem,2fr)]">
      <section aria-labelledby="rules">
        <h1 id="rules">Rules</h1>
        <p className="mt-1 mb-4 max-w-prose text-peat">
          For each question the last rule that matches decides. {leftOver(rules.otherwise)}
          {rules.read_only && " Files whose lock is needed and not held are read-only."}
        </p>
        {editing ? (
          <RulesForm here={here} rules={rules} onClose={() => setEditing(false)} />
        ) : (
          <>
            {here.mayLead && (
              <Button className="mb-4" onClick={() => setEditing(true)}>
                Change the rules
              </Button>
            )}
            <RuleTable rules={rules} />
            <RulesText here={here} rules={rules} />
          </>
        )}
      </section>
      <div className="space-y-8">
        <Requests here={here} requests={rules.requests} />
        <BranchRules rules={rules} />
        <TestPath here={here} />
      </div>
    </div>
  );
}

/** BranchRules are those about branches: what may come onto which. */
function BranchRules({ rules }: { rules: Schemas["Rules"] }) {
  if (rules.branches.length === 0) return null;
  return (
    <section aria-labelledby="onto-branches">
      <h2 id="onto-branches" className="mb-1">
        What comes onto branches
      </h2>
      <ul>
        {rules.branches.map((b) => (
          <li key={b.line} className="border-b border-line py-2">
            <Patterns match={b.match} /> {b.says}
            <span className="block text-peat">
              {b.in}, line {b.line}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function leftOver(otherwise: string) {
  if (otherwise === "code") return "What none covers is left to the main history.";
  return otherwise === "ignored" ? "What none covers is left out." : "What none covers is an asset that needs its lock.";
}

const kindWords: Record<string, string> = { asset: "assets", code: "left to the main history", ignored: "left out" };
const lockWords: Record<string, string> = { required: "lock needed", "on-edit": "lock on first edit", free: "no lock needed" };

/** RuleTable shows the latest layer first: there somebody looks for what they wrote. */
function RuleTable({ rules }: { rules: Schemas["Rules"] }) {
  return (
    <div className="relative overflow-x-auto" tabIndex={0} role="region" aria-label="What the rules say">
      <table className="w-full border-collapse text-left align-top">
        <thead className="text-peat">
          <tr className="border-b border-line">
            <th className="py-1.5 pr-4 font-normal">Patterns</th>
            <th className="py-1.5 pr-4 font-normal whitespace-nowrap">Makes them</th>
            <th className="py-1.5 pr-4 font-normal">Where</th>
            <th className="py-1.5 text-right font-normal whitespace-nowrap">Decides about</th>
          </tr>
        </thead>
        <tbody>
          {[...rules.rules].reverse().map((r) => (
            <tr key={`${r.in} ${r.line} ${r.match.join(" ")}`} className="border-b border-line align-top">
              <td className="py-2 pr-4">
                <Patterns match={r.match} />
              </td>
              <td className="py-2 pr-4">{[r.kind && kindWords[r.kind], r.lock && lockWords[r.lock]].filter(Boolean).join(", ")}</td>
              <td className="py-2 pr-4 text-peat whitespace-nowrap">
                {r.in}
                {r.line ? `, line ${r.line}` : ""}
              </td>
              <td className="py-2 text-right whitespace-nowrap tabular-nums">
                {r.assets > 0 ? (
                  <>
                    {plural(r.assets, "asset")}
                    <span className="block text-peat">{size(r.size)}</span>
                  </>
                ) : (
                  <span className="text-peat">{r.kind === "asset" || !r.kind ? "none" : ""}</span>
                )}
              </td>
            </tr>
          ))}
          {rules.uncovered > 0 && (
            <tr className="border-b border-line">
              <td className="py-2 pr-4 text-peat" colSpan={3}>
                Covered by no rule
              </td>
              <td className="py-2 text-right whitespace-nowrap">{plural(rules.uncovered, "asset")}</td>
            </tr>
          )}
        </tbody>
      </table>
    </div>
  );
}

function Patterns({ match }: { match: string[] }) {
  const few = 8;
  const list = (patterns: string[]) =>
    patterns.map((p) => (
      <code key={p} className="mr-2 inline-block text-sm break-all">
        {p}
      </code>
    ));
  if (match.length <= few) return <>{list(match)}</>;
  return (
    <details>
      <summary className="cursor-pointer">
        {list(match.slice(0, few))}
        <span className="text-peat">and {match.length - few} more</span>
      </summary>
      {list(match.slice(few))}
    </details>
  );
}

function RulesText({ here, rules }: { here: Here; rules: Schemas["Rules"] }) {
  if (rules.version === 0) {
    return (
      <p className="mt-4 max-w-prose text-peat">
        {here.key} has no tarn.toml yet: only the built-in rules hold, until a lead changes them.
      </p>
    );
  }
  return (
    <details className="mt-4">
      <summary className="cursor-pointer text-peat">tarn.toml, version {rules.version}, as it was sent</summary>
      <pre className="mt-2 overflow-x-auto rounded-md bg-bank px-4 py-3 text-sm">{rules.text}</pre>
    </details>
  );
}
