import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { outcomes } from "../../acts/outcomes";
import { api, ask, type Schemas } from "../../api/client";
import { useMembers } from "../../api/members";
import { Ask, fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { plural } from "../../parts/words";
import { useHere, type Here } from "../project/ProjectFrame";
import { Invitations } from "./Invitations";

const roles = ["viewer", "artist", "lead", "owner"] as const;

export const roleSays: Record<string, string> = {
  viewer: "looks at everything, and changes nothing",
  artist: "locks, changes and sends files",
  lead: "does what artists do, decides on rules and locks, lets people in",
  owner: "does what leads do, and decides who leads, and what becomes of the project",
};

/** PeoplePage is who belongs to a project, and as what; who may lets people in and out. */
export function PeoplePage() {
  const here = useHere();
  useTitle("People");
  const members = useMembers(here.key);
  const [leaving, setLeaving] = useState<string>();
  const list = members.data?.members ?? [];
  const leads = here.mayLead;
  return (
    <>
      <Trouble error={members.error} />
      <div className="grid gap-x-14 gap-y-10 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
        <section aria-label="People">
          <table className="w-full border-collapse text-left">
            <thead className="text-peat">
              <tr className="border-b border-line">
                <th className="py-1.5 pr-4 font-normal">Person</th>
                <th className="py-1.5 pr-4 font-normal">Role</th>
                <th className="py-1.5 font-normal">
                  <span className="sr-only">Leave</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {list.map((m) => (
                <tr key={m.handle} className="border-b border-line align-top">
                  <td className="py-2.5 pr-4 font-medium">
                    {m.handle}
                    {m.name && <span className="block font-normal text-peat">{m.name}</span>}
                    {m.handle === here.me && <span className="font-normal text-peat"> (you)</span>}
                  </td>
                  <td className="py-1.5 pr-4">
                    <Role here={here} member={m} may={leads} />
                    <span className="block text-sm text-peat">
                      {roleSays[m.role]}
                      {m.by_group && ", by a group of the house"}
                    </span>
                  </td>
                  <td className="py-1.5 text-right">
                    {(leads || m.handle === here.me) && (
                      <Button
                        kind="quiet"
                        aria-label={m.handle === here.me ? `Leave ${here.key}` : `Take out ${m.handle}`}
                        onClick={() => setLeaving(m.handle)}
                      >
                        {m.handle === here.me ? "Leave" : "Take out"}
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
        {leads && <Invitations here={here} />}
      </div>
      {leaving && <Leaves here={here} handle={leaving} onClose={() => setLeaving(undefined)} />}
    </>
  );
}

/** Role is what somebody is in the project; whoever may changes it. Owners are made, and unmade, by owners alone. */
function Role({ here, member: m, may }: { here: Here; member: Schemas["Member"]; may: boolean }) {
  const queries = useQueryClient();
  const [next, setNext] = useState<string>();
  const owner = here.project.role === "owner";
  const set = useMutation({
    mutationFn: (role: string) =>
      ask(api.PUT("/projects/{project}/members/{handle}", { params: { path: { project: here.key, handle: m.handle } }, body: { role } })),
    onSuccess: (_, role) => {
      setNext(undefined);
      outcomes.done("role", `${m.handle} is ${role} now`);
      return queries.invalidateQueries({ queryKey: ["project", here.key] });
    },
  });
  if (!may || (m.role === "owner" && !owner)) return <>{m.role}</>;
  return (
    <>
      <select
        className={`${fieldClass} max-w-32 py-1`}
        aria-label={`What ${m.handle} is`}
        value={m.role}
        onChange={(e) => {
          set.reset();
          setNext(e.target.value);
        }}
      >
        {roles
          .filter((r) => r !== "owner" || owner || m.role === "owner")
          .map((r) => (
            <option key={r}>{r}</option>
          ))}
      </select>
      {next && (
        <Ask
          open
          title={`Make ${m.handle} ${next === "viewer" ? "a viewer" : next === "lead" ? "a lead" : `an ${next}`}?`}
          action="Change it"
          busy={set.isPending}
          onAct={() => set.mutate(next)}
          onClose={() => setNext(undefined)}
        >
          <p>
            {m.handle} {roleSays[next]}, from now on. It can be changed back at any time.
          </p>
          <Trouble error={set.error} />
        </Ask>
      )}
    </>
  );
}

/** Leaves says what it touches that somebody leaves, before it is done. */
function Leaves({ here, handle, onClose }: { here: Here; handle: string; onClose: () => void }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const me = handle === here.me;
  const params = { path: { project: here.key, handle } };
  const found = useQuery({
    queryKey: ["project", here.key, "leaving", handle],
    queryFn: () =>
      ask(
        me
          ? api.GET("/projects/{project}/membership", { params: { path: { project: here.key } } })
          : api.GET("/projects/{project}/members/{handle}/leaving", { params }),
      ),
    gcTime: 0,
    staleTime: 0,
  });
  const go = useMutation({
    mutationFn: () =>
      ask(
        me
          ? api.POST("/projects/{project}/leave", { params: { path: { project: here.key } }, body: { key: here.key } })
          : api.DELETE("/projects/{project}/members/{handle}", { params }),
      ),
    onSuccess: async () => {
      onClose();
      if (me) {
        queries.clear();
        await navigate("/");
        return;
      }
      outcomes.done("leave", `${handle} is not in ${here.key} any more`);
      await queries.invalidateQueries({ queryKey: ["project", here.key] });
    },
  });
  const l = found.data;
  return (
    <Ask
      open
      title={me ? `Leave ${here.key}?` : `Take ${handle} out of ${here.key}?`}
      action={me ? "Leave" : "Take out"}
      busy={go.isPending}
      disabled={!l || l.only_owner}
      onAct={() => go.mutate()}
      onClose={onClose}
    >
      {l?.only_owner && <p className="text-rust">{me ? "You are" : `${handle} is`} its only owner. Make somebody else an owner first.</p>}
      {l && (
        <>
          <p>
            What {me ? "you" : handle} did stays under {me ? "your" : "their"} name.{" "}
            {me ? "A lead lets you in again" : "They can be let in again"} at any time.
          </p>
          <Touched words={`${plural(l.locks.length, "lock is", "locks are")} given back, and offered to who waits`} list={l.locks} />
          <Touched
            words={`${plural(l.unsent.length, "asset has", "assets have")} changes that were not sent, as far as is known. They stay on ${me ? "your" : "their"} disk, and can’t be sent any more`}
            list={l.unsent}
          />
          <Ends n={l.waiting} one="place in a line" many="places in lines" />
          <Ends n={l.tokens} one="token" many="tokens" />
          <Ends n={l.showings} one="link for people outside" many="links for people outside" />
          <Ends n={l.invitations} one="invitation" many="invitations" />
        </>
      )}
      <Trouble error={found.error ?? go.error} />
    </Ask>
  );
}

function Ends({ n, one, many }: { n: number; one: string; many: string }) {
  return n > 0 ? <p>{plural(n, `${one} ends`, `${many} end`)} with that.</p> : null;
}

function Touched({ words, list }: { words: string; list: string[] }) {
  if (list.length === 0) return null;
  return (
    <div>
      <p className="text-ink">{words}:</p>
      <ul className="mt-1 max-h-40 overflow-y-auto border-y border-line py-1">
        {list.slice(0, 100).map((p) => (
          <li key={p} className="wrap-anywhere">
            {p}
          </li>
        ))}
        {list.length > 100 && <li>and {(list.length - 100).toLocaleString("en")} more</li>}
      </ul>
    </div>
  );
}
