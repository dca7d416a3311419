import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schemas } from "../../api/client";
import { Ask, fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { Trouble } from "../../parts/Trouble";

const key = ["me", "tokens"];

/** Tokens are for programs that work by themselves: each for one project, for a role at most, for a time. */
export function Tokens() {
  const queries = useQueryClient();
  const found = useQuery({ queryKey: key, queryFn: () => ask(api.GET("/me/tokens")) });
  const [making, setMaking] = useState(false);
  const end = useMutation({
    mutationFn: (t: Schemas["Token"]) =>
      ask(api.DELETE("/projects/{project}/tokens/{token}", { params: { path: { project: t.project!, token: String(t.id) } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: key }),
  });
  const list = found.data?.tokens ?? [];
  return (
    <section aria-labelledby="tokens">
      <h2 id="tokens">Your tokens</h2>
      <p className="mt-2 max-w-sm text-peat">
        A token lets a program work in one project in your place: a build, a script. It may do what you may, up to a role.
      </p>
      <Trouble error={found.error} />
      <ul className="mt-2 max-w-md">
        {list.map((t) => (
          <li key={t.id} className="flex items-center gap-4 border-b border-line py-1.5">
            <span className="min-w-0 flex-1 wrap-anywhere">
              {t.label}
              <span className="block text-peat">
                {t.project}, as {t.role}, until {day(t.expires)}
              </span>
            </span>
            <Button kind="quiet" aria-label={`End the token ${t.label}`} disabled={end.isPending} onClick={() => end.mutate(t)}>
              End
            </Button>
          </li>
        ))}
      </ul>
      <Trouble error={end.error} />
      <Button className="mt-3" onClick={() => setMaking(true)}>
        Make a token
      </Button>
      {making && <Make onClose={() => setMaking(false)} />}
    </section>
  );
}

const day = (at: string) => new Date(at).toLocaleDateString("en", { day: "numeric", month: "short", year: "numeric" });

const roles = ["viewer", "artist", "lead", "owner"];

function Make({ onClose }: { onClose: () => void }) {
  const queries = useQueryClient();
  const projects =
    useQuery({ queryKey: ["projects"], queryFn: () => ask(api.GET("/projects")) }).data?.projects.filter((p) => p.role) ?? [];
  const [chosen, setChosen] = useState("");
  const [label, setLabel] = useState("");
  const [role, setRole] = useState("viewer");
  const [days, setDays] = useState("90");
  const project = projects.find((p) => p.key === chosen) ?? projects[0];
  const make = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/projects/{project}/tokens", {
          params: { path: { project: project!.key } },
          body: { label: label.trim(), role, days: Number(days) },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: key }),
  });
  const made = make.data;
  return (
    <Ask
      open
      title={made ? "The token" : "Make a token"}
      action={made ? "Done" : "Make it"}
      busy={make.isPending}
      disabled={!made && (!project || !label.trim())}
      onAct={() => (made ? onClose() : make.mutate())}
      onClose={onClose}
    >
      {made ? (
        <>
          <p>It is shown this once. Keep it where only the program gets at it: whoever has it may do what it may.</p>
          <input className={fieldClass} readOnly aria-label="Token" value={made.token} onFocus={(e) => e.target.select()} />
        </>
      ) : (
        <>
          <Field
            label="What it is for"
            name="label"
            maxLength={80}
            placeholder="the nightly build"
            required
            value={label}
            onType={setLabel}
          />
          <div className="flex gap-3">
            <label className="block flex-1">
              <span className="mb-1 block font-medium">In</span>
              <select className={fieldClass} value={project?.key ?? ""} onChange={(e) => setChosen(e.target.value)}>
                {projects.map((p) => (
                  <option key={p.key}>{p.key}</option>
                ))}
              </select>
            </label>
            <label className="block flex-1">
              <span className="mb-1 block font-medium">At most as</span>
              <select className={fieldClass} value={role} onChange={(e) => setRole(e.target.value)}>
                {roles.slice(0, roles.indexOf(project?.role ?? "viewer") + 1).map((r) => (
                  <option key={r}>{r}</option>
                ))}
              </select>
            </label>
            <Field label="For days" className="block w-24" type="number" min={1} max={1098} required value={days} onType={setDays} />
          </div>
          <Trouble error={make.error} />
        </>
      )}
    </Ask>
  );
}
