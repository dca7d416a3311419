import { ExternalLink } from "lucide-react";
import { useHere } from "../pages/project/ProjectFrame";

/** fits reads a pattern of task ids as the rules do: * is anything, and case does not count. One pass: no pattern takes long. */
function fits(pattern: string, task: string): boolean {
  const [first = "", ...parts] = pattern.toLowerCase().split("*");
  const last = parts.pop();
  let rest = task.toLowerCase();
  if (!rest.startsWith(first)) return false;
  rest = rest.slice(first.length);
  if (last === undefined) return rest === "";
  for (const part of parts) {
    const at = rest.indexOf(part);
    if (at < 0) return false;
    rest = rest.slice(at + part.length);
  }
  return rest.endsWith(last);
}

/** Task is the id of a task, and leads to it where the rules say where that is. */
export function Task({ id }: { id: string }) {
  const links = useHere().project.task_links ?? [];
  const link = links.findLast((l) => fits(l.match, id));
  if (!link || !/^https?:\/\//i.test(link.link)) return <span className="mr-1.5 border-b border-line text-peat">{id}</span>;
  return (
    <a href={link.link.replaceAll("{task}", encodeURIComponent(id))} target="_blank" rel="noreferrer" className="mr-1.5 text-peat">
      {id} <ExternalLink aria-label="opens the task" size={12} className="inline align-baseline" />
    </a>
  );
}
