import { NavLink, Outlet } from "react-router";
import { useHere } from "../project/ProjectFrame";

const tab = ({ isActive }: { isActive: boolean }) => `no-underline ${isActive ? "font-semibold text-ink" : "text-peat hover:text-ink"}`;

/** Locks: what is held now, who held what before, and what people wait for. */
export function LocksPage() {
  const here = useHere();
  return (
    <>
      <div className="mb-4 flex flex-wrap items-baseline gap-x-6">
        <h1>Locks</h1>
        <nav className="flex gap-5" aria-label="Locks">
          <NavLink to={`/p/${here.key}/locks`} end className={tab}>
            Now
          </NavLink>
          <NavLink to={`/p/${here.key}/locks/record`} className={tab}>
            Record
          </NavLink>
          <NavLink to={`/p/${here.key}/locks/waiting`} className={tab}>
            What people wait for
          </NavLink>
        </nav>
      </div>
      <Outlet context={here} />
    </>
  );
}
