import { NavLink } from "react-router";
import { Shore } from "../../parts/Shore";

/** DeskShore stands above the pages that are of one's own machine. */
export function DeskShore() {
  return (
    <Shore>
      <nav className="flex gap-x-5" aria-label="Desk">
        <NavLink to="/" className="border-b-2 border-transparent px-0.5 py-1.5 text-peat no-underline hover:text-ink">
          Projects
        </NavLink>
      </nav>
    </Shore>
  );
}
