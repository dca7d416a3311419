import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { handOff } from "../../acts/many";
import { outcomes } from "../../acts/outcomes";
import { changesOf } from "../../api/changes";
import { api, ask, type Schemas } from "../../api/client";
import { fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";
import { plural } from "../../parts/words";
import { bring } from "../../sending/bring";
import type { Here } from "../project/ProjectFrame";
import { addRule, moveRule, removeRule, setKey, setRule, type OwnRule } from "./rulesText";

const file = "tarn.toml";
const fresh: OwnRule = { match: ["*.new"], kind: "asset", lock: "required" };

/** Shown is what the form shows of the text of rules. */
interface Shown {
  presets: string[];
  otherwise: string;
  readOnly: boolean;
  rules: OwnRule[];
}

function shownBy(read: Pick<Schemas["Rules"], "presets" | "otherwise" | "read_only" | "rules">): Shown {
  const own = read.rules.filter((r) => r.in === file);
  return {
    presets: read.presets,
    otherwise: read.otherwise,
    readOnly: read.read_only,
    rules: own.map((r) => ({ match: r.match, kind: r.kind ?? "", lock: r.lock ?? "" })),
  };
}

/** RulesForm changes the rules, shows what that would change, and hands them off. */
export function RulesForm({ here, rules, onClose }: { here: Here; rules: Schemas["Rules"]; onClose: () => void }) {
  const queries = useQueryClient();
  const [text, setText] = useState(rules.text);
  const [note, setNote] = useState("");
  const asked = useDeferredValue(text);
  const tried = useQuery({
    queryKey: ["rules", "tried", here.key, rules.version, asked],
    queryFn: async () => ({
      of: asked,
      ...(await ask(api.POST("/projects/{project}/rules/try", { params: { path: { project: here.key } }, body: { text: asked } }))),
    }),
    placeholderData: (before) => before,
    gcTime: 60_000,
  });
  const presets = useQuery({
    queryKey: ["rules", "presets"],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () => ask(api.POST("/rules/propose", { body: { paths: [] } })),
  });
  const act = useMutation({
    mutationFn: async () => {
      const params = { path: { project: here.key } };
      const { assets } = await ask(api.POST("/projects/{project}/assets/at", { params, body: { paths: [file] } }));
      const was = assets[0];
      const data = new File([text], file);
      const [content] = await bring(here.key, [data], () => {}, new AbortController().signal);
      return handOff(
        here.key,
        [{ path: file, base: was?.newest ?? 0, content: content!, size: data.size, ...(was?.lock && { fence: was.lock.fence }) }],
        note,
      );
    },
    onSuccess: async ({ handoff }) => {
      outcomes.done("rules", `The rules are handed off, with h${handoff.number}`);
      await changesOf(queries, here.key).all();
      onClose();
    },
  });
  const found = tried.data;
  const settled = found?.of === text;
  // What is changed is shown at once; the service reads the text behind it.
  const [ahead, setAhead] = useState({ text: rules.text, shown: shownBy(rules) });
  const foresees = ahead.text === text;
  const shown = foresees && (!settled || found.trouble) ? ahead.shown : shownBy(found ?? rules);
  const own = shown.rules;
  const edit = (next: string, change: Partial<Shown>) => {
    setText(next);
    setAhead({ text: next, shown: { ...shown, ...change } });
  };
  const moved = (from: number, by: 1 | -1) => {
    const rules = own.toSpliced(from, 1);
    rules.splice(from + by, 0, own[from]!);
    edit(moveRule(text, from, by), { rules });
  };
  return (
    <form
      aria-label="Rules"
      className="space-y-5"
      onSubmit={(e) => {
        e.preventDefault();
        if (!act.isPending) act.mutate();
      }}
    >
      <fieldset disabled={!settled && !foresees} className="space-y-5">
        <fieldset>
          <legend className="mb-1 font-semibold">Presets</legend>
          {/* The line is there before what is on it comes: nothing below it moves away from under a pointer. */}
          <div className="flex min-h-6 flex-wrap gap-x-5 gap-y-1">
            {presets.data?.presets.map((p) => {
              const on = shown.presets.includes(p.name);
              const presets = on ? shown.presets.filter((n) => n !== p.name) : [...shown.presets, p.name];
              return (
                <label key={p.name} className="flex items-start gap-2" title={p.about}>
                  <input
                    type="checkbox"
                    className="mt-1 size-4 accent-copper"
                    checked={on}
                    onChange={() => edit(setKey(text, "presets", presets), { presets })}
                  />
                  {p.name}
                </label>
              );
            })}
          </div>
        </fieldset>
        <div className="flex flex-wrap items-end gap-x-6 gap-y-2">
          <label>
            <span className="mb-1 block">What no rule covers</span>
            <select
              className={fieldClass}
              value={shown.otherwise}
              onChange={(e) => edit(setKey(text, "otherwise", e.target.value), { otherwise: e.target.value })}
            >
              <option value="asset">is an asset that needs its lock</option>
              <option value="code">is left to the main history</option>
              <option value="ignored">is left out</option>
            </select>
          </label>
          <label className="flex items-center gap-2 py-1.5">
            <input
              type="checkbox"
              className="size-4 accent-copper"
              checked={shown.readOnly}
              onChange={(e) => edit(setKey(text, "read-only", e.target.checked || undefined), { readOnly: e.target.checked })}
            />
            Read-only until one has the lock
          </label>
        </div>
        <section aria-label="Rules of this project">
          <h3 className="mb-1 font-semibold">Rules of this project</h3>
          <p className="mb-2 text-peat">The last one that matches decides.</p>
          <ol className="space-y-2">
            {own.map((r, i) => (
              <Rule
                key={i}
                rule={r}
                number={i + 1}
                onChange={(rule) => edit(setRule(text, i, rule), { rules: own.with(i, rule) })}
                onUp={i > 0 ? () => moved(i, -1) : undefined}
                onDown={i < own.length - 1 ? () => moved(i, 1) : undefined}
                onRemove={() => edit(removeRule(text, i), { rules: own.toSpliced(i, 1) })}
              />
            ))}
          </ol>
          <Button className="mt-2" onClick={() => edit(addRule(text, fresh), { rules: [...own, fresh] })}>
            Add a rule
          </Button>
        </section>
      </fieldset>
      <details>
        <summary className="cursor-pointer text-peat">As text, with sets, tasks and branches</summary>
        <textarea
          className={`${fieldClass} mt-2 font-mono text-sm`}
          rows={16}
          spellCheck={false}
          aria-label="tarn.toml"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
      </details>
      <Trouble error={tried.error ?? act.error} />
      {found && <Tried tried={found} same={text === rules.text} />}
      <label className="block">
        <span className="mb-1 block text-ink">Why</span>
        <input className={fieldClass} value={note} onChange={(e) => setNote(e.target.value)} />
      </label>
      <div className="flex gap-2">
        <Button
          kind="act"
          type="submit"
          disabled={act.isPending || !settled || !note.trim() || text === rules.text || found.trouble !== undefined}
        >
          Hand the rules off
        </Button>
        <Button disabled={act.isPending} onClick={onClose}>
          Leave them as they are
        </Button>
      </div>
    </form>
  );
}

interface RuleProps {
  rule: OwnRule;
  number: number;
  onChange: (r: OwnRule) => void;
  onUp: (() => void) | undefined;
  onDown: (() => void) | undefined;
  onRemove: () => void;
}

function Rule({ rule, number, onChange, onUp, onDown, onRemove }: RuleProps) {
  const match = rule.match.join("\n");
  // What is typed stands as it is until another field is gone to.
  const [was, setWas] = useState(match);
  const [patterns, setPatterns] = useState(match);
  if (was !== match) {
    setWas(match);
    setPatterns(match);
  }
  return (
    <li className="flex flex-wrap items-start gap-2 border-b border-line pb-2">
      <label className="min-w-52 flex-1">
        <span className="sr-only">Patterns of rule {number}, one a line</span>
        <textarea
          className={`${fieldClass} font-mono text-sm`}
          rows={Math.min(6, patterns.split("\n").length)}
          spellCheck={false}
          value={patterns}
          onChange={(e) => setPatterns(e.target.value)}
          onBlur={() => {
            const typed = patterns
              .split("\n")
              .map((p) => p.trim())
              .filter(Boolean);
            if (typed.length > 0 && typed.join("\n") !== match) onChange({ ...rule, match: typed });
            else setPatterns(match);
          }}
        />
      </label>
      <label>
        <span className="sr-only">What rule {number} makes of them</span>
        <select className={fieldClass} value={rule.kind} onChange={(e) => onChange({ ...rule, kind: e.target.value })}>
          {rule.lock && <option value="">says nothing</option>}
          <option value="asset">assets</option>
          <option value="code">left to the main history</option>
          <option value="ignored">left out</option>
        </select>
      </label>
      <label>
        <span className="sr-only">The lock that rule {number} asks for</span>
        <select className={fieldClass} value={rule.lock} onChange={(e) => onChange({ ...rule, lock: e.target.value })}>
          {rule.kind && <option value="">no word on locks</option>}
          <option value="required">lock needed</option>
          <option value="on-edit">lock on first edit</option>
          <option value="free">no lock needed</option>
        </select>
      </label>
      <span className="flex">
        <Button kind="quiet" disabled={!onUp} onClick={onUp} aria-label={`Rule ${number} before the one above`}>
          Up
        </Button>
        <Button kind="quiet" disabled={!onDown} onClick={onDown} aria-label={`Rule ${number} behind the one below`}>
          Down
        </Button>
        <Button kind="quiet" onClick={onRemove} aria-label={`Remove rule ${number}`}>
          Remove
        </Button>
      </span>
    </li>
  );
}

const says: Record<string, (n: number) => string> = {
  "left-out": (n) =>
    `${plural(n, "asset")} would not be covered any more: ${n === 1 ? "it stays an asset" : "they stay assets"} until somebody removes ${n === 1 ? "it" : "them"}`,
  "taken-in": (n) => `${plural(n, "asset")} would be covered again`,
  lock: (n) => `${plural(n, "asset")} would need ${n === 1 ? "its lock" : "their locks"}`,
  "on-edit": (n) => `${plural(n, "asset")} would be locked on the first edit`,
  "lock-free": (n) => `${plural(n, "asset")} would need no lock any more`,
};

/** Tried is what is wrong with the rules, or what they would change. */
function Tried({ tried, same }: { tried: Schemas["RulesTried"]; same: boolean }) {
  if (tried.trouble) {
    return (
      <p role="alert" className="border-l-3 border-rust bg-bank px-3 py-2 text-rust">
        {tried.trouble.line > 0 && `Line ${tried.trouble.line}: `}
        {tried.trouble.message}
      </p>
    );
  }
  if (same) return null;
  return (
    <div role="status" className="border-l-3 border-ice bg-ice-wash px-3 py-2">
      <p className="font-semibold">What that would change{tried.more && `, of the first ${tried.looked.toLocaleString("en")} assets`}</p>
      {tried.changes.length === 0 && <p>Nothing about what is there now.</p>}
      <ul>
        {tried.changes.map((c) => (
          <li key={c.what}>
            <details>
              <summary className="cursor-pointer">{says[c.what]?.(c.count) ?? plural(c.count, "asset")}</summary>
              <ul className="pl-4 text-peat">
                {c.paths.map((p) => (
                  <li key={p} className="wrap-anywhere">
                    {p}
                  </li>
                ))}
                {c.count > c.paths.length && <li>and {(c.count - c.paths.length).toLocaleString("en")} more</li>}
              </ul>
            </details>
          </li>
        ))}
      </ul>
    </div>
  );
}
