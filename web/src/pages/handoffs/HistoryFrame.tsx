import { NavLink, Outlet } from "react-router";
import { useHere } from "../project/ProjectFrame";

const tab = ({ isActive }: { isActive: boolean }) => `no-underline ${isActive ? "font-semibold text-ink" : "text-peat hover:text-ink"}`;

/** HistoryFrame holds what looks back: the timeline, the milestones, what is between two of them, and what of it is shown outside. */
export function HistoryFrame() {
  const here = useHere();
  return (
    <>
      <div className="mb-4 flex flex-wrap items-baseline gap-x-6 gap-y-1">
        <h1>Handoffs</h1>
        <nav className="flex flex-wrap gap-x-4" aria-label="Looking back">
          <NavLink to={`/p/${here.key}/handoffs`} end className={tab}>
            Timeline
          </NavLink>
          <NavLink to={`/p/${here.key}/handoffs/milestones`} className={tab}>
            Milestones
          </NavLink>
          <NavLink to={`/p/${here.key}/handoffs/between`} className={tab}>
            Between two states
          </NavLink>
          <NavLink to={`/p/${here.key}/handoffs/shown`} className={tab}>
            Shown outside
          </NavLink>
        </nav>
      </div>
      <Outlet context={here} />
    </>
  );
}
