import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useRef, useState } from "react";
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

type Line = Schemas["RuleLine"];

const file = "tarn.toml";

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
  const own = (found?.rules ?? []).filter((r) => r.in === file);
  const settled = found?.of === text;
  const moved = useRef(false); // since what is shown was read, rules may stand elsewhere
  if (settled) moved.current = false;
  /** edit changes the text; what goes by where rules stand waits until what is shown is what it says. It reports whether it did. */
  const edit = (next: (text: string) => string, moves = false): boolean => {
    if (!settled && (moves || moved.current)) return false;
    moved.current = moves;
    setText(next);
    return true;
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
      <fieldset>
        <legend className="mb-1 font-semibold">Presets</legend>
        <div className="flex flex-wrap gap-x-5 gap-y-1">
          {presets.data?.presets.map((p) => {
            const on = found?.presets.includes(p.name) ?? false;
            return (
              <label key={p.name} className="flex items-start gap-2" title={p.about}>
                <input
                  type="checkbox"
                  className="mt-1 size-4 accent-copper"
                  checked={on}
                  onChange={() =>
                    setText(setKey(text, "presets", on ? found!.presets.filter((n) => n !== p.name) : [...(found?.presets ?? []), p.name]))
                  }
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
            value={found?.otherwise ?? "asset"}
            onChange={(e) => setText(setKey(text, "otherwise", e.target.value))}
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
            checked={found?.read_only ?? false}
            onChange={(e) => setText(setKey(text, "read-only", e.target.checked || undefined))}
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
              onChange={(rule) => edit((t) => setRule(t, i, rule))}
              onUp={i > 0 ? () => void edit((t) => moveRule(t, i, -1), true) : undefined}
              onDown={i < own.length - 1 ? () => void edit((t) => moveRule(t, i, 1), true) : undefined}
              onRemove={() => void edit((t) => removeRule(t, i), true)}
            />
          ))}
        </ol>
        <Button className="mt-2" onClick={() => setText(addRule(text, { match: ["*.new"], kind: "asset", lock: "required" }))}>
          Add a rule
        </Button>
      </section>
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
          disabled={act.isPending || tried.isFetching || !note.trim() || text === rules.text || !found || found.trouble !== undefined}
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
  rule: Line;
  number: number;
  /** It reports whether it was taken. */
  onChange: (r: OwnRule) => boolean;
  onUp: (() => void) | undefined;
  onDown: (() => void) | undefined;
  onRemove: () => void;
}

function Rule({ rule, number, onChange: tell, onUp, onDown, onRemove }: RuleProps) {
  const read: OwnRule = { match: rule.match, kind: rule.kind ?? "", lock: rule.lock ?? "" };
  // What was chosen or typed stands as it is until the rules are read anew.
  const [was, setWas] = useState(JSON.stringify(read));
  const [now, setNow] = useState(read);
  const [patterns, setPatterns] = useState(read.match.join("\n"));
  if (was !== JSON.stringify(read)) {
    setWas(JSON.stringify(read));
    setNow(read);
    setPatterns(read.match.join("\n"));
  }
  const onChange = (next: OwnRule) => {
    if (tell(next)) setNow(next);
  };
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
            const match = patterns
              .split("\n")
              .map((p) => p.trim())
              .filter(Boolean);
            if (match.length > 0 && match.join("\n") !== now.match.join("\n")) onChange({ ...now, match });
            else setPatterns(now.match.join("\n"));
          }}
        />
      </label>
      <label>
        <span className="sr-only">What rule {number} makes of them</span>
        <select className={fieldClass} value={now.kind} onChange={(e) => onChange({ ...now, kind: e.target.value })}>
          {now.lock && <option value="">says nothing</option>}
          <option value="asset">assets</option>
          <option value="code">left to the main history</option>
          <option value="ignored">left out</option>
        </select>
      </label>
      <label>
        <span className="sr-only">The lock that rule {number} asks for</span>
        <select className={fieldClass} value={now.lock} onChange={(e) => onChange({ ...now, lock: e.target.value })}>
          {now.kind && <option value="">no word on locks</option>}
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
