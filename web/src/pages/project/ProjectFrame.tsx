import { useQuery } from "@tanstack/react-query";
import { Link, NavLink, Outlet, useLocation, useNavigate, useOutletContext, useParams } from "react-router";
import { Outcomes } from "../../acts/Outcomes";
import { api, ask, Problem, type Project } from "../../api/client";
import { useMe } from "../../api/me";
import { useNews } from "../../api/news";
import { Page, Shore } from "../../parts/Shore";
import { Told } from "../../parts/Told";
import { useKey } from "../../parts/Keys";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { StateHere } from "./StateHere";

/** At is where what is only looked at is: in a project, or what a link shows of one. */
export interface At {
  key: string;
}

/** Here is what every page of a project knows. */
export interface Here extends At {
  me: string;
  project: Project;
  maySend: boolean;
  mayLead: boolean;
}

export const useHere = () => useOutletContext<Here>();

const tab = ({ isActive }: { isActive: boolean }) =>
  `border-b-2 px-0.5 py-1.5 no-underline ${isActive ? "border-copper text-ink" : "border-transparent text-peat hover:text-ink"}`;

/** Pages that are about the project itself. */
const about = /^\/p\/[^/]+\/(people|kits(\/[^/]+)?|usage|record|ending)$/;

export function ProjectFrame() {
  const key = useParams()["project"]!;
  const me = useMe();
  const project = useQuery({
    queryKey: ["project", key],
    queryFn: () => ask(api.GET("/projects/{project}", { params: { path: { project: key } } })),
  });
  const [live, told, dismiss] = useNews(key, project.data?.news ?? "");
  const role = project.data?.role ?? "";
  const navigate = useNavigate();
  const { pathname } = useLocation();
  useKey("/", () => void navigate("find"));
  const works = !project.data?.archived;
  const here: Here | undefined = project.data &&
    me.data && {
      key,
      me: me.data.handle,
      project: project.data,
      maySend: role !== "viewer" && works,
      mayLead: role === "lead" || role === "owner",
    };
  return (
    <>
      <Shore>
        <span className="text-peat max-sm:hidden" aria-hidden>
          /
        </span>
        <NavLink to={`/p/${key}`} end className="font-semibold no-underline">
          {key}
        </NavLink>
        <StateHere project={key} />
        <nav className="flex flex-wrap gap-x-3 max-sm:order-last max-sm:w-full sm:gap-x-5" aria-label="Project">
          <NavLink to={`/p/${key}`} end className={tab}>
            Today
          </NavLink>
          <NavLink to={`/p/${key}/assets`} className={tab}>
            Assets
          </NavLink>
          <NavLink to={`/p/${key}/handoffs`} className={tab}>
            Handoffs
          </NavLink>
          <NavLink to={`/p/${key}/branches`} className={tab}>
            Branches
          </NavLink>
          <NavLink to={`/p/${key}/locks`} className={tab}>
            Locks
          </NavLink>
          <NavLink to={`/p/${key}/code`} className={tab}>
            Code
          </NavLink>
          <NavLink to={`/p/${key}/rules`} className={tab}>
            Rules
          </NavLink>
          <NavLink to={`/p/${key}/people`} className={({ isActive }) => tab({ isActive: isActive || about.test(pathname) })}>
            Project
          </NavLink>
          <NavLink to={`/p/${key}/news`} className={tab}>
            News
          </NavLink>
          <NavLink to={`/p/${key}/find`} className={tab} aria-keyshortcuts="/" title="Find (/)">
            Find
          </NavLink>
        </nav>
        {project.data?.archived && (
          <span className="text-sm text-copper" title="An owner can bring it back, under Project">
            Archived
          </span>
        )}
        {role === "viewer" && (
          <span className="text-sm text-peat" title="A lead can let you send and lock">
            You look on
          </span>
        )}
        {!live && project.data && (
          <span role="status" className="text-rust">
            No connection; this page may be old
          </span>
        )}
      </Shore>
      <Told items={told} onClose={dismiss} />
      {here && <Outcomes here={here} />}
      <Page>
        {project.error instanceof Problem && project.error.details.status === 404 ? (
          <NotIn name={key} />
        ) : (
          !here && <Trouble error={project.error ?? me.error} />
        )}
        {here && <Outlet context={here} />}
      </Page>
    </>
  );
}

/** NotIn is for a project that there is not, or that one does not belong to: the service does not say which. */
function NotIn({ name }: { name: string }) {
  useTitle("Nothing here");
  return (
    <>
      <h1 className="wrap-anywhere">There is no project {name} for you</h1>
      <p className="mt-2 max-w-prose text-peat">
        Either there is none of that name, or you are not among its people. Somebody who leads it can add you.
      </p>
      <p className="mt-4">
        <Link to="/">Your projects</Link>
      </p>
    </>
  );
}
