import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schemas } from "../../api/client";
import { Ask, fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { Trouble } from "../../parts/Trouble";
import { plural, When } from "../../parts/words";
import type { Here } from "../project/ProjectFrame";

type Invitation = Schemas["Invitation"];

/** Invitations are the links by which people join: one is made, sent or passed on, and ended. */
export function Invitations({ here }: { here: Here }) {
  const queries = useQueryClient();
  const key = ["project", here.key, "invitations"];
  const found = useQuery({
    queryKey: key,
    queryFn: () => ask(api.GET("/projects/{project}/invitations", { params: { path: { project: here.key } } })),
  });
  const [making, setMaking] = useState(false);
  const [ending, setEnding] = useState<Invitation>();
  const end = useMutation({
    mutationFn: (i: Invitation) =>
      ask(
        api.DELETE("/projects/{project}/invitations/{invitation}", {
          params: { path: { project: here.key, invitation: String(i.number) } },
        }),
      ),
    onSuccess: () => {
      setEnding(undefined);
      return queries.invalidateQueries({ queryKey: key });
    },
  });
  const list = found.data?.invitations ?? [];
  return (
    <section aria-labelledby="invitations">
      <div className="mb-2 flex items-baseline gap-4">
        <h2 id="invitations">Invitations</h2>
        <Button kind="act" className="ml-auto" onClick={() => setMaking(true)}>
          Invite somebody
        </Button>
      </div>
      <Trouble error={found.error} />
      {found.data && list.length === 0 && (
        <p className="text-peat">Nobody is invited. A link lets people join by themselves: they choose a handle and a passphrase.</p>
      )}
      <ul>
        {list.map((i) => (
          <li key={i.number} className="flex items-start gap-4 border-b border-line py-2.5">
            <div className="min-w-0 flex-1">
              <span className="font-medium">
                As {i.role}
                {i.mail && <span className="wrap-anywhere">, to {i.mail}</span>}
              </span>
              <span className="block text-peat">
                by {i.by}, <When at={i.made} />;{" "}
                {i.joined.length > 0 ? `${i.joined.join(", ")} joined by it` : "nobody has joined by it yet"}
                {i.uses > 1 && `; it is for ${i.uses} people`}
              </span>
            </div>
            <span className={i.holds ? "" : "text-peat"}>{holds(i)}</span>
            {i.holds && (
              <Button aria-label={`End it, invitation ${i.number}`} onClick={() => setEnding(i)}>
                End it
              </Button>
            )}
          </li>
        ))}
      </ul>
      {making && <Invite here={here} mails={found.data?.mail_works ?? false} onClose={() => setMaking(false)} />}
      {ending && (
        <Ask
          open
          title="End this invitation?"
          action="End it"
          busy={end.isPending}
          onAct={() => end.mutate(ending)}
          onClose={() => setEnding(undefined)}
        >
          <p>Nobody joins by its link any more. Who has joined stays.</p>
          <Trouble error={end.error} />
        </Ask>
      )}
    </section>
  );
}

function holds(i: Invitation) {
  const day = (at: string) => new Date(at).toLocaleDateString("en", { day: "numeric", month: "short", year: "numeric" });
  if (i.ended) return `ended by ${i.ended_by}`;
  if (i.joined.length >= i.uses) return "used";
  if (new Date(i.until) <= new Date()) return `over since ${day(i.until)}`;
  return i.holds ? `until ${day(i.until)}` : "lets nobody in";
}

function Invite({ here, mails, onClose }: { here: Here; mails: boolean; onClose: () => void }) {
  const queries = useQueryClient();
  const [role, setRole] = useState("artist");
  const [mail, setMail] = useState("");
  const [uses, setUses] = useState("1");
  const [days, setDays] = useState("7");
  const [copied, setCopied] = useState(false);
  const make = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/projects/{project}/invitations", {
          params: { path: { project: here.key } },
          body: { role, uses: Number(uses), days: Number(days), ...(mail.trim() && { mail: mail.trim() }) },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["project", here.key, "invitations"] }),
  });
  const made = make.data;
  const address = made && location.origin + made.address;
  return (
    <Ask
      open
      title={made ? "The invitation" : `Invite somebody to ${here.key}`}
      action={made ? "Done" : "Make the link"}
      busy={make.isPending}
      onAct={() => (made ? onClose() : make.mutate())}
      onClose={onClose}
    >
      {made ? (
        <>
          <p>
            {made.sent
              ? `It is on its way to ${made.mail}. `
              : made.mail
                ? `It could not be sent to ${made.mail}: pass it on yourself. `
                : "Pass it on to who shall join. "}
            It is shown this once.
          </p>
          <input className={fieldClass} readOnly aria-label="Link" value={address} onFocus={(e) => e.target.select()} />
          <p>
            <Button onClick={() => void navigator.clipboard.writeText(address!).then(() => setCopied(true))}>Copy it</Button>{" "}
            {copied && <span role="status">It is copied.</span>}
          </p>
          <p>
            Whoever has it joins as {made.role}, until {new Date(made.until).toLocaleDateString("en", { day: "numeric", month: "long" })}.
          </p>
        </>
      ) : (
        <>
          <label className="block">
            <span className="mb-1 block text-ink">As</span>
            <select className={fieldClass} value={role} onChange={(e) => setRole(e.target.value)}>
              <option value="viewer">viewer: looks at everything, and changes nothing</option>
              <option value="artist">artist: locks, changes and sends files</option>
              <option value="lead">lead: decides on rules and locks, lets people in</option>
            </select>
          </label>
          <div className="flex gap-3">
            <Field
              label="For how many people"
              className="block flex-1"
              type="number"
              min={1}
              max={500}
              required
              value={uses}
              onType={setUses}
            />
            <Field
              label="For how many days"
              className="block flex-1"
              type="number"
              min={1}
              max={366}
              required
              value={days}
              onType={setDays}
            />
          </div>
          {mails && <Field label="Send it to (mail address)" quiet type="email" value={mail} onType={setMail} />}
          {Number(uses) > 1 && <p>The first {plural(Number(uses), "person", "people")} who open it join.</p>}
        </>
      )}
      <Trouble error={make.error} />
    </Ask>
  );
}
