// The text of rules, changed rule by rule: what is not touched, comments above all, stays as somebody wrote it. The service reads what comes
// of it, and says what is wrong.

export interface OwnRule {
  match: string[];
  /** "" where it does not answer that question. */
  kind: string;
  lock: string;
}

/** A table of the text: its lines from the comments above it to the last that is not empty, and the line of its head; all from 0. */
interface Table {
  name: string;
  from: number;
  head: number;
  to: number;
}

const heading = /^\s*\[\[?\s*([\w.-]+)\s*\]\]?\s*(#.*)?$/;

export function tables(lines: string[]): Table[] {
  const found: Table[] = [];
  lines.forEach((line, head) => {
    const name = heading.exec(line)?.[1];
    if (!name) return;
    let from = head;
    while (from > 0 && lines[from - 1]!.trimStart().startsWith("#")) from--;
    found.push({ name, from, head, to: lines.length });
  });
  found.forEach((t, i) => {
    t.to = found[i + 1]?.from ?? lines.length;
    while (t.to > t.head + 1 && lines[t.to - 1]!.trim() === "") t.to--;
  });
  return found;
}

/** ruleAt is one of the rules of the text, counted from 0. */
function ruleAt(lines: string[], index: number) {
  const rules = tables(lines).filter((t) => t.name === "rule");
  return { rules, rule: rules[index] };
}

const list = (match: string[]) => (match.length === 1 ? JSON.stringify(match[0]) : `[${match.map((m) => JSON.stringify(m)).join(", ")}]`);

const written = (r: OwnRule) => [
  `match = ${list(r.match)}`,
  ...(r.kind ? [`kind = ${JSON.stringify(r.kind)}`] : []),
  ...(r.lock ? [`lock = ${JSON.stringify(r.lock)}`] : []),
];

export function setRule(text: string, index: number, rule: OwnRule): string {
  const lines = text.split("\n");
  const { rule: t } = ruleAt(lines, index);
  if (!t) return text;
  const comments = lines.slice(t.head + 1, t.to).filter((l) => l.trimStart().startsWith("#"));
  lines.splice(t.head + 1, t.to - t.head - 1, ...comments, ...written(rule));
  return lines.join("\n");
}

export function addRule(text: string, rule: OwnRule): string {
  const lines = text.trimEnd().split("\n");
  const last = tables(lines)
    .filter((t) => t.name === "rule")
    .at(-1);
  // Rules go behind the last of them: there they decide.
  lines.splice(last ? last.to : lines.length, 0, "", "[[rule]]", ...written(rule));
  return `${lines.join("\n").trimStart()}\n`;
}

export function removeRule(text: string, index: number): string {
  const lines = text.split("\n");
  const { rule: t } = ruleAt(lines, index);
  if (!t) return text;
  let to = t.to;
  while (to < lines.length && lines[to]!.trim() === "") to++;
  lines.splice(t.from, to - t.from);
  return `${lines.join("\n").trimEnd()}\n`;
}

/** moveRule exchanges a rule with the one before it (by -1) or behind it (by 1). */
export function moveRule(text: string, index: number, by: -1 | 1): string {
  const lines = text.split("\n");
  const { rules } = ruleAt(lines, index);
  const [a, b] = by < 0 ? [rules[index - 1], rules[index]] : [rules[index], rules[index + 1]];
  if (!a || !b) return text;
  return [
    ...lines.slice(0, a.from),
    ...lines.slice(b.from, b.to),
    ...lines.slice(a.to, b.from),
    ...lines.slice(a.from, a.to),
    ...lines.slice(b.to),
  ].join("\n");
}

/** setKey sets what the text says before its first table; undefined takes it out. */
export function setKey(text: string, key: string, value: string | boolean | string[] | undefined): string {
  const lines = text.split("\n");
  const end = tables(lines)[0]?.from ?? lines.length;
  const at = lines.findIndex((l, i) => i < end && new RegExp(`^\\s*${key}\\s*=`).test(l));
  const line =
    value === undefined
      ? []
      : [`${key} = ${Array.isArray(value) ? `[${value.map((v) => JSON.stringify(v)).join(", ")}]` : JSON.stringify(value)}`];
  if (at >= 0) {
    let to = at + 1;
    // A list may go over several lines.
    if (/=\s*\[/.test(lines[at]!)) while (to < end && !/\]\s*(#.*)?$/.test(lines[to - 1]!)) to++;
    lines.splice(at, to - at, ...line);
  } else if (line.length > 0) {
    let place = 0;
    while (place < end && lines[place]!.trimStart().startsWith("#")) place++;
    const comment = place > 0 && lines[place]?.trim() === "" ? place + 1 : place;
    lines.splice(comment, 0, ...line, ...(comment >= end ? [""] : []));
  }
  return lines.join("\n");
}
