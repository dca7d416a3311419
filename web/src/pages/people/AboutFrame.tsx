import { NavLink, Outlet } from "react-router";
import { useHere } from "../project/ProjectFrame";

const tab = ({ isActive }: { isActive: boolean }) => `no-underline ${isActive ? "font-semibold text-ink" : "text-peat hover:text-ink"}`;

/** AboutFrame holds what is about the project itself: its people, what it shares, what it takes, everything that was done in it, what becomes of it. */
export function AboutFrame() {
  const here = useHere();
  return (
    <>
      <div className="mb-5 flex flex-wrap items-baseline gap-x-6 gap-y-1">
        <h1>{here.key}</h1>
        <nav className="flex flex-wrap gap-x-4" aria-label="About the project">
          <NavLink to={`/p/${here.key}/people`} className={tab}>
            People
          </NavLink>
          <NavLink to={`/p/${here.key}/kits`} className={tab}>
            Kits
          </NavLink>
          <NavLink to={`/p/${here.key}/usage`} className={tab}>
            Usage
          </NavLink>
          <NavLink to={`/p/${here.key}/record`} className={tab}>
            Record
          </NavLink>
          <NavLink to={`/p/${here.key}/ending`} className={tab}>
            What becomes of it
          </NavLink>
        </nav>
      </div>
      <Outlet context={here} />
    </>
  );
}
