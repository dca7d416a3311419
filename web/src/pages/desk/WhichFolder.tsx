import type { Workspace } from "../../api/desk";
import { fieldClass } from "../../parts/Ask";

/** WhichFolder asks in which folder of the project on this machine, where there are several. */
export function WhichFolder({ places, chosen, onChoose }: { places: Workspace[]; chosen: string; onChoose: (workspace: string) => void }) {
  if (places.length < 2) return null;
  return (
    <label className="block">
      <span className="mb-1 block text-ink">In which folder of yours</span>
      <select className={fieldClass} value={chosen} onChange={(e) => onChoose(e.target.value)}>
        {places.map((w) => (
          <option key={w.workspace} value={w.workspace}>
            {w.folder}
          </option>
        ))}
      </select>
    </label>
  );
}
