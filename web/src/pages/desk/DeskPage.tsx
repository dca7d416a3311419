import { Link, useSearchParams } from "react-router";
import { Problem } from "../../api/client";
import { useMe } from "../../api/me";
import { useDesk, type Workspace } from "../../api/desk";
import { Page } from "../../parts/Shore";
import { useTitle } from "../../parts/title";
import { remedy, sentence } from "../../parts/Trouble";
import { plural, When } from "../../parts/words";
import { Clashes } from "./Clashes";
import { FoldersHere } from "./FoldersHere";
import { OnBranch } from "./OnBranch";
import { ComeIn } from "./ComeIn";
import { DeskShore } from "./DeskShore";
import { groupsOf } from "./groups";
import { LeftOut } from "./LeftOut";
import { Asked, Held, Turns, Waiting, Warned } from "./Locks";
import { ByItself, KitsNewer, Newer } from "./Newer";
import { PutAway } from "./PutAway";
import { ToSend } from "./ToSend";

/** My work: per workspace of this machine, what wants one's hand first. */
export function DeskPage() {
  useTitle("My work");
  const desk = useDesk();
  const me = useMe();
  // Nobody is signed in on this machine, or the sign-in does not hold any more.
  const out = !!desk.about && (!desk.about.service || (me.error instanceof Problem && me.error.signedOut));
  const elsewhere = useSearchParams()[0].get("elsewhere");
  return (
    <>
      <DeskShore />
      <Page>
        <h1 className="sr-only">My work</h1>
        {desk.line === "away" && (
          <p role="status" className="mb-5 border-l-3 border-rust bg-bank px-3 py-2">
            Your desk does not answer; this is what it last said. Choose Kettle Tarn in the start menu to start it again.
          </p>
        )}
        {elsewhere && (
          <p role="status" className="mb-5 border-l-3 border-rust bg-bank px-3 py-2 wrap-anywhere">
            The link leads to {elsewhere}, and on this machine you are signed in to {desk.about?.service || "nothing"}.
          </p>
        )}
        {desk.line === "asking" && <p className="text-peat">Looking at your workspaces …</p>}
        {out && <ComeIn service={desk.about?.service ?? ""} handle={desk.about?.handle ?? ""} />}
        {desk.about?.service && !out && desk.workspaces.length === 0 && desk.line !== "asking" && (
          <section>
            <h2 className="text-xl">Nothing is here yet</h2>
            <p className="mt-2 max-w-prose text-peat">
              You are signed in as {desk.about?.handle}. Bring a project down to this machine, or make one of a folder that you have.
            </p>
          </section>
        )}
        <div className="space-y-14">
          {desk.workspaces.map((w) => (
            <InOne key={w.workspace} w={w} />
          ))}
        </div>
        {desk.about?.service && !out && desk.line !== "asking" && (
          <p className="mt-10">
            <Link to="/desk/bring" className="rounded-md border border-edge px-2.5 py-1.5 font-medium no-underline hover:border-copper">
              Bring another project here
            </Link>
          </p>
        )}
      </Page>
    </>
  );
}

const folderName = (folder: string) => folder.split(/[\\/]/).filter(Boolean).at(-1) ?? folder;

function InOne({ w }: { w: Workspace }) {
  const g = groupsOf(w);
  const quiet = w.known && !w.kits_behind?.length && Object.values(g).every((list) => list.length === 0);
  const sent = w.known && g.clashes.length + g.changed.length + g.fresh.length + (w.sending ?? []).length === 0;
  return (
    <section aria-labelledby={`in-${w.workspace}`}>
      <header className="mb-4 flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-line pb-2">
        <h2 id={`in-${w.workspace}`} className="text-2xl">
          <Link to={`/p/${w.project}`} className="no-underline">
            {w.project}
          </Link>
        </h2>
        <span className="text-peat" title={w.folder}>
          in {folderName(w.folder)}
          {w.follows ? <>, stays at h{w.follows}</> : null}
        </span>
        <OnBranch w={w} />
        <FoldersHere w={w} />
        <span className="ml-auto text-peat" role="status">
          {w.online ? (
            "connected"
          ) : w.known ? (
            <>the service is away; as it said {w.fetched > "2000" ? <When at={w.fetched} /> : "never"}</>
          ) : (
            ""
          )}
        </span>
      </header>
      {w.trouble && (
        <p className="mb-4 border-l-3 border-rust bg-bank px-3 py-2">
          <span className="text-rust">It is not watched: {w.trouble}.</span>
        </p>
      )}
      {w.rules && (
        <p className="mb-4 border-l-3 border-rust bg-bank px-3 py-2">
          <span className="text-rust">Its rules can’t be read: {w.rules}.</span> <Link to={`/p/${w.project}/rules`}>To the rules</Link>
        </p>
      )}
      {!w.known && !w.trouble && <p className="text-peat">Looking at your files …</p>}
      {quiet && <p className="text-peat">Nothing has changed here, and nothing newer is known: {plural(w.same, "asset")}.</p>}
      <div className="grid gap-x-12 gap-y-8 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <div className="space-y-8">
          {sent && !quiet && (
            <p className="text-peat">
              Nothing that you changed waits to be sent. On the page of an <Link to={`/p/${w.project}/assets`}>asset</Link>, Begin brings
              its newest version, takes its lock and opens it.
            </p>
          )}
          <Clashes w={w} list={g.clashes} />
          <ToSend w={w} changed={g.changed} fresh={g.fresh} />
          <Odd w={w} />
          <Uncovered w={w} />
        </div>
        <div className="space-y-8">
          <Turns w={w} list={g.turns} />
          <Asked w={w} list={g.asked} />
          <Newer w={w} list={g.behind} />
          <KitsNewer w={w} />
          <Held w={w} list={g.held} />
          <Waiting w={w} list={g.waiting} />
          <Warned w={w} list={g.warned} />
          <div className="space-y-2">
            <PutAway w={w} />
            <ByItself w={w} />
            <LeftOut w={w} />
          </div>
        </div>
      </div>
    </section>
  );
}

/** Odd are files that can't be tracked, and why. */
function Odd({ w }: { w: Workspace }) {
  if (w.odd.length === 0) return null;
  return (
    <section aria-label="Not tracked">
      <h3 className="mb-1 text-lg">
        Not tracked <span className="font-normal text-peat">{plural(w.odd.length, "file")}, nobody else gets them as they are</span>
      </h3>
      <ul>
        {w.odd.slice(0, 20).map((o) => (
          <li key={o.path} className="py-1 wrap-anywhere">
            <span className="text-rust">{sentence(o.message)}</span> {remedy(o) && <span className="text-peat">{sentence(remedy(o))}</span>}
          </li>
        ))}
      </ul>
      {w.odd.length > 20 && <p className="text-peat">and {(w.odd.length - 20).toLocaleString("en")} more</p>}
    </section>
  );
}

/** Uncovered are large files that no rule covers. */
function Uncovered({ w }: { w: Workspace }) {
  if (w.uncovered.length === 0) return null;
  return (
    <section aria-label="Covered by no rule">
      <h3 className="mb-2">
        Large, and covered by no rule <span className="font-normal text-peat">{w.uncovered.length}</span>
      </h3>
      <p className="text-peat">The main history would take these. A rule makes assets of them.</p>
      <ul className="mt-1">
        {w.uncovered.slice(0, 12).map((a) => (
          <li key={a.path} className="py-1 wrap-anywhere">
            {a.path}
          </li>
        ))}
      </ul>
      <Link to={`/p/${w.project}/rules`}>To the rules</Link>
    </section>
  );
}
