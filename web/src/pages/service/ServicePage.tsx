import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link } from "react-router";
import { api, ask, type Schemas } from "../../api/client";
import { useMe } from "../../api/me";
import { useAddress } from "../../parts/address";
import { Ask, fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Choice } from "../../parts/Choice";
import { Field } from "../../parts/Field";
import { Page, Shore } from "../../parts/Shore";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { plural, size, When } from "../../parts/words";
import { Taken } from "../people/UsagePage";

const parts = ["health", "people", "projects", "usage", "room"] as const;
const words: Record<(typeof parts)[number], string> = {
  health: "Health",
  people: "People",
  projects: "Projects",
  usage: "Usage",
  room: "Room",
};

/** ServicePage is for stewards: how the service is, who is there, what projects there are and take. */
export function ServicePage() {
  useTitle("The service");
  const me = useMe();
  const [params, set] = useAddress();
  const part = parts.find((p) => p === params.get("part")) ?? "health";
  return (
    <>
      <Shore />
      <Page>
        <div className="mb-6 flex flex-wrap items-center gap-5">
          <h1>The service</h1>
          {me.data?.steward && (
            <Choice
              label="What of it"
              options={parts}
              value={part}
              onChange={(p) => set({ part: p === "health" ? "" : p })}
              show={(p) => words[p]}
            />
          )}
        </div>
        {me.data && !me.data.steward && <p className="text-peat">This is for stewards, who run the service.</p>}
        {me.data?.steward &&
          (part === "health" ? (
            <Health />
          ) : part === "people" ? (
            <People me={me.data.handle} />
          ) : part === "projects" ? (
            <Projects />
          ) : part === "usage" ? (
            <Usage />
          ) : (
            <Room />
          ))}
      </Page>
    </>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section aria-label={title}>
      <h2 className="mb-2">{title}</h2>
      {children}
    </section>
  );
}

const row = "grid grid-cols-[minmax(9rem,1fr)_minmax(0,2fr)] gap-4 border-b border-line py-1.5";

function Health() {
  const found = useQuery({ queryKey: ["health"], queryFn: () => ask(api.GET("/health")), refetchInterval: 15_000 });
  const h = found.data;
  if (!h) return <Trouble error={found.error} />;
  const quiet = h.failing.length === 0 && h.damage.length === 0;
  return (
    <div className="grid gap-x-14 gap-y-10 lg:grid-cols-2">
      <div className="space-y-10">
        <Part title="How it is">
          <p className={`mb-3 ${quiet ? "text-ice" : "text-rust"}`} role="status">
            {quiet ? "Nothing fails, and nothing is damaged." : "Something wants to be looked at."}
          </p>
          <dl>
            <Line name="Version" value={`${h.version}, since `} at={h.since} />
            <Line name="Database" value={`PostgreSQL ${h.database}, ${size(h.database_size)}, schema ${h.schema}`} />
            <Line name="In the store" value={`${size(h.stored)} in ${plural(h.packs, "pack")}`} />
            <Line name="Room left" value={h.free < 0 ? "not known" : size(h.free)} />
            <Line name="News on its way" value={plural(h.deliveries_waiting, "letter or call", "letters and calls")} />
            <Line name="Contents to be checked" value={h.contents_unsealed.toLocaleString("en")} />
          </dl>
        </Part>
        <Part title="Settings in force">
          <dl>
            {h.settings.map((s) => (
              <Line key={s.name} name={s.name} value={s.value} />
            ))}
          </dl>
        </Part>
      </div>
      <div className="space-y-10">
        <Part title="Damaged content">
          {h.damage.length === 0 && <p className="text-peat">None is known. tarnd verify --deep reads everything through.</p>}
          <ul>
            {h.damage.map((d) => (
              <li key={d.project} className="border-b border-line py-2">
                <Link to={`/p/${d.project}`} className="font-medium">
                  {d.project}
                </Link>{" "}
                lost {plural(d.chunks, "chunk")}, since <When at={d.since} />. Any folder that has the files gives them back.
              </li>
            ))}
          </ul>
        </Part>
        <Part title="News that can’t be delivered">
          {h.failing.length === 0 && <p className="text-peat">Everything arrives.</p>}
          <ul>
            {h.failing.map((f, i) => (
              <li key={i} className="border-b border-line py-2">
                <span className="font-medium wrap-anywhere">{f.to}</span> {f.project && `of ${f.project}`}, {f.kind}, <When at={f.at} />
                <span className="block text-rust wrap-anywhere">{f.error}</span>
                <span className="block text-peat">
                  {plural(f.tries, "try", "tries")};{" "}
                  {f.next ? (
                    <>
                      tried again <When at={f.next} />
                    </>
                  ) : (
                    "given up"
                  )}
                </span>
              </li>
            ))}
          </ul>
        </Part>
      </div>
    </div>
  );
}

function Line({ name, value, at }: { name: string; value: string; at?: string }) {
  return (
    <div className={row}>
      <dt className="text-peat">{name}</dt>
      <dd className="wrap-anywhere">
        {value}
        {at && <When at={at} />}
      </dd>
    </div>
  );
}

type Row = Schemas["PersonRow"];
type What = { who: Row; does: "link" | "steward" | "end" };

function People({ me }: { me: string }) {
  const queries = useQueryClient();
  const found = useQuery({ queryKey: ["people"], queryFn: () => ask(api.GET("/people")) });
  const [doing, setDoing] = useState<What>();
  const [adding, setAdding] = useState(false);
  const again = () => queries.invalidateQueries({ queryKey: ["people"] });
  return (
    <>
      <p className="mb-4">
        <Button kind="act" onClick={() => setAdding(true)}>
          Add somebody
        </Button>
      </p>
      <Trouble error={found.error} />
      <ul>
        {found.data?.people.map((p) => (
          <li key={p.handle} className="flex flex-wrap items-center gap-x-5 gap-y-1 border-b border-line py-2.5">
            <span className="min-w-48 flex-1">
              <span className="font-medium">{p.handle}</span>
              {p.steward && <span className="text-copper"> steward</span>}
              <span className="block text-peat">
                {p.ended ? (
                  <>
                    let go <When at={p.ended} />
                  </>
                ) : !p.may_sign_in ? (
                  "has no passphrase yet"
                ) : (
                  <>
                    {plural(p.projects, "project")}, {plural(p.sign_ins, "sign-in")}
                    {p.seen && (
                      <>
                        , last heard of <When at={p.seen} />
                      </>
                    )}
                  </>
                )}
              </span>
            </span>
            {!p.ended && (
              <span className="flex flex-wrap gap-x-3 sm:grid sm:grid-cols-[4rem_12rem_4.5rem] sm:justify-items-start">
                <Button kind="quiet" aria-label={`A link for ${p.handle}`} onClick={() => setDoing({ who: p, does: "link" })}>
                  A link
                </Button>
                <Button
                  kind="quiet"
                  aria-label={`${p.steward ? "No steward any more" : "Make a steward"}: ${p.handle}`}
                  onClick={() => setDoing({ who: p, does: "steward" })}
                >
                  {p.steward ? "No steward any more" : "Make a steward"}
                </Button>
                {p.handle !== me && (
                  <Button kind="quiet" aria-label={`Let go ${p.handle}`} onClick={() => setDoing({ who: p, does: "end" })}>
                    Let go
                  </Button>
                )}
              </span>
            )}
          </li>
        ))}
      </ul>
      {doing?.does === "link" && <LinkFor handle={doing.who.handle} onClose={() => setDoing(undefined)} />}
      {doing && doing.does !== "link" && <Doing what={doing} onClose={() => setDoing(undefined)} onDone={() => void again()} />}
      {adding && <Add onClose={() => setAdding(false)} onDone={() => void again()} />}
    </>
  );
}

function Passed({ way }: { way: Schemas["WayIn"] }) {
  return (
    <>
      <p>
        Pass it on to {way.handle} alone. It is shown this once, and good once, until{" "}
        {new Date(way.until).toLocaleString("en", { day: "numeric", month: "long", hour: "2-digit", minute: "2-digit", hour12: false })}.
      </p>
      <input className={fieldClass} readOnly aria-label="Link" value={location.origin + way.address} onFocus={(e) => e.target.select()} />
    </>
  );
}

function LinkFor({ handle, onClose }: { handle: string; onClose: () => void }) {
  const make = useMutation({ mutationFn: () => ask(api.POST("/people/{handle}/link", { params: { path: { handle } } })) });
  return (
    <Ask
      open
      title={`A link for ${handle}`}
      action={make.data ? "Done" : "Make the link"}
      busy={make.isPending}
      onAct={() => (make.data ? onClose() : make.mutate())}
      onClose={onClose}
    >
      {make.data ? (
        <Passed way={make.data} />
      ) : (
        <p>By it {handle} chooses another passphrase in a browser. The present one holds until then.</p>
      )}
      <Trouble error={make.error} />
    </Ask>
  );
}

function Add({ onClose, onDone }: { onClose: () => void; onDone: () => void }) {
  const [handle, setHandle] = useState("");
  const add = useMutation({ mutationFn: () => ask(api.POST("/people", { body: { handle: handle.trim() } })), onSuccess: onDone });
  return (
    <Ask
      open
      title="Add somebody"
      action={add.data ? "Done" : "Add"}
      busy={add.isPending}
      disabled={!add.data && !handle.trim()}
      onAct={() => (add.data ? onClose() : add.mutate())}
      onClose={onClose}
    >
      {add.data ? (
        <Passed way={add.data} />
      ) : (
        <>
          <p>They choose a passphrase by a link. Who leads a project can invite people as well.</p>
          <Field label="Handle" autoCapitalize="none" value={handle} onType={setHandle} />
        </>
      )}
      <Trouble error={add.error} />
    </Ask>
  );
}

function Doing({ what: { who, does }, onClose, onDone }: { what: What; onClose: () => void; onDone: () => void }) {
  const params = { path: { handle: who.handle } };
  const go = useMutation({
    mutationFn: async (): Promise<unknown> =>
      does === "end"
        ? ask(api.POST("/people/{handle}/end", { params, body: { handle: who.handle } }))
        : ask(api.PUT("/people/{handle}/steward", { params, body: { steward: !who.steward } })),
    onSuccess: () => {
      onDone();
      onClose();
    },
  });
  return (
    <Ask
      open
      title={
        does === "end" ? `Let ${who.handle} go?` : who.steward ? `Is ${who.handle} no steward any more?` : `Make ${who.handle} a steward?`
      }
      action={does === "end" ? "Let go" : who.steward ? "No steward any more" : "Make a steward"}
      busy={go.isPending}
      onAct={() => go.mutate()}
      onClose={onClose}
    >
      <p>
        {does === "end"
          ? `${who.handle} can’t sign in any more: sign-ins and tokens end at once, what they hold is given back, and they leave ${plural(who.projects, "project")}. What they did stays under their name.`
          : who.steward
            ? `${who.handle} does what their projects let them do, and no more.`
            : "A steward runs the whole service: people, projects, limits, everything on this page."}
      </p>
      <Trouble error={go.error} />
    </Ask>
  );
}

function Projects() {
  const found = useQuery({ queryKey: ["projects"], queryFn: () => ask(api.GET("/projects")) });
  return (
    <>
      <Trouble error={found.error} />
      <ul>
        {found.data?.projects.map((p) => (
          <One key={p.key} project={p} />
        ))}
        {found.data?.deleted.map((d) => (
          <li key={d.key} className="border-b border-line py-2.5 text-peat">
            {d.key}: deleted by {d.by}, <When at={d.deleted} />; goes for good <When at={d.goes} />. Its owners, and you, bring it back on
            the first page.
          </li>
        ))}
      </ul>
    </>
  );
}

function One({ project: p }: { project: Schemas["Project"] }) {
  const queries = useQueryClient();
  const [asking, setAsking] = useState(false);
  const [limit, setLimit] = useState(p.storage_limit ? String(Math.round((p.storage_limit / 2 ** 30) * 100) / 100) : "");
  const set = useMutation({
    mutationFn: () =>
      ask(
        api.PUT("/projects/{project}/limit", {
          params: { path: { project: p.key } },
          body: { storage_limit: Math.round(Number(limit || 0) * 2 ** 30) },
        }),
      ),
    onSuccess: () => {
      setAsking(false);
      return queries.invalidateQueries();
    },
  });
  return (
    <li className="flex flex-wrap items-center gap-x-5 border-b border-line py-2.5">
      <span className="min-w-48 flex-1">
        <Link to={`/p/${p.key}`} className="font-medium">
          {p.key}
        </Link>
        {p.archived && <span className="text-copper"> archived</span>}
        <span className="block text-peat">
          {plural(p.members, "person", "people")}, {plural(p.assets, "asset")}; takes {size(p.stored)}
          {p.storage_limit ? ` of ${size(p.storage_limit)}` : ", no limit"}
        </span>
      </span>
      <Button kind="quiet" aria-label={`Limit of ${p.key}`} onClick={() => setAsking(true)}>
        Limit
      </Button>
      <Ask
        open={asking}
        title={`How much may ${p.key} take?`}
        action="Set it"
        busy={set.isPending}
        disabled={Number.isNaN(Number(limit)) || Number(limit) < 0}
        onAct={() => set.mutate()}
        onClose={() => setAsking(false)}
      >
        <Field label="GiB; nothing for no limit" inputMode="decimal" value={limit} onType={setLimit} />
        <p>At the limit it is read, locked and unlocked, and takes nothing new. Nothing is lost.</p>
        <Trouble error={set.error} />
      </Ask>
    </li>
  );
}

function Usage() {
  const found = useQuery({ queryKey: ["usage"], queryFn: () => ask(api.GET("/usage", { params: { query: { days: 90 } } })) });
  return (
    <>
      <Trouble error={found.error} />
      {found.data && <Taken usage={found.data} />}
    </>
  );
}

const freed: Record<string, (n: number, now: boolean) => string> = {
  deleted: (n, now) => `${plural(n, "deleted project")}${now ? "" : ", in their days of grace"}`,
  "given-up": (n) => `Uploads of ${plural(n, "file")} that no version came of; as files, which is more than they take`,
  condemned: (n, now) => `${plural(n, "piece")} of content that nothing refers to${now ? "" : ", looked at once more a day later"}`,
  rewritten: (n, now) => `${plural(n, "pack")} whose content lies in others by now${now ? "" : ", kept for who still reads them"}`,
  thin: (n) => `${plural(n, "pack")} of which less than half is in use`,
};

function Room() {
  const queries = useQueryClient();
  const found = useQuery({
    queryKey: ["collect"],
    queryFn: () => ask(api.GET("/collect")),
    refetchInterval: (q) => (q.state.data?.since ? 1000 : 30_000),
  });
  const go = useMutation({
    mutationFn: () => ask(api.POST("/collect")),
    onSettled: () => queries.invalidateQueries({ queryKey: ["collect"] }),
  });
  const c = found.data;
  if (!c) return <Trouble error={found.error} />;
  return (
    <section aria-label="What could be freed" className="max-w-3xl">
      <h2 className="mb-2">What could be freed</h2>
      {c.freeable.length === 0 ? (
        <p className="text-peat">Nothing: all that lies in the store is in use.</p>
      ) : (
        <ul>
          {c.freeable.map((f) => (
            <li key={`${f.what} ${f.now}`} className="flex gap-5 border-b border-line py-2">
              <span className="w-24 shrink-0 text-right tabular-nums">{size(f.bytes)}</span>
              <span>
                {freed[f.what]?.(f.count, f.now) ?? f.what}
                <span className="text-peat">{f.now ? "" : "; not yet"}</span>
              </span>
            </li>
          ))}
        </ul>
      )}
      <div className="mt-5 flex flex-wrap items-center gap-5">
        <Button kind="act" disabled={go.isPending || Boolean(c.since)} onClick={() => go.mutate()}>
          Collect now
        </Button>
        <p role="status" className={c.trouble ? "text-rust" : "text-peat"}>
          {c.since ? (
            "It is at work. Everybody else works on beside it."
          ) : c.trouble ? (
            c.trouble
          ) : c.done ? (
            <>
              Done <When at={c.done} />: {c.freed > 0 ? `${size(c.freed)} freed.` : "there was nothing to free."}
            </>
          ) : (
            "Removes what nothing refers to, after its days of grace, and writes thin packs anew."
          )}
        </p>
      </div>
      <Trouble error={go.error} />
    </section>
  );
}
