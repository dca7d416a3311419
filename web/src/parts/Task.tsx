import { ExternalLink } from "lucide-react";
import { useHere } from "../pages/project/ProjectFrame";

/** fits reads a pattern of task ids as the rules do: * is anything, and case does not count. */
function fits(pattern: string, task: string): boolean {
  const plain = pattern.split("*").map((p) => p.replace(/[.*+?^${}()|[\]\\]/g, "\\$&"));
  return new RegExp(`^${plain.join(".*")}$`, "is").test(task);
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
