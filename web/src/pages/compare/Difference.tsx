import { lazy, Suspense, useState } from "react";
import { fieldClass } from "../../parts/Ask";
import { OnSheet } from "../../parts/Pointing";
import type { At } from "../project/ProjectFrame";
import { Changes, Facts, Measures, Strip } from "./Findings";
import { Lines } from "./Lines";
import { Matched } from "./Matched";
import { Pages } from "./Pages";
import { Pictures } from "./Pictures";
import { Sounds } from "./Sounds";
import { drawnOf, drawnOfBoth, type Comparison, type Sides } from "./useCompare";

const Models = lazy(() => import("./Models"));

/** Addresses are those of what was drawn of each version and of both, by name. */
export interface Addresses {
  before: (name: string) => string;
  after: (name: string) => string;
  both: (name: string) => string;
}

/** Difference is what is different between two versions: measured, drawn or heard, and told part by part. */
export function Difference({
  here,
  sides,
  comparison: c,
  addresses = {
    before: (name) => drawnOf(here.key, sides.path, sides.a, name),
    after: (name) => drawnOf(here.key, sides.with, sides.b, name),
    both: (name) => drawnOfBoth(here.key, sides, name),
  },
}: {
  here: At;
  sides: Sides;
  comparison: Comparison;
  /** Where what was drawn is: at the service, where nothing else is said. */
  addresses?: Addresses;
}) {
  const unread = [
    ["before", c.before],
    ["after", c.after],
  ] as const;
  return (
    <>
      {unread.map(
        ([side, r]) =>
          r.trouble && (
            <p key={side} role="alert" className="mb-3 text-rust">
              The version {side} can’t be read: {r.trouble}.
            </p>
          ),
      )}
      {c.same && <p className="mb-3 text-lg">Nothing that can be seen or heard is different.</p>}
      <Measures list={c.measures} />
      <View addresses={addresses} comparison={c} />
      <div className="mt-6 grid gap-x-10 gap-y-6 lg:grid-cols-2">
        <Facts list={c.facts} />
        {c.kind !== "other" && (c.strip?.parts.length ?? 0) > 1 && <Strip strip={c.strip} />}
      </div>
      {!c.table && !hasPlan(c) && <Changes list={c.changes} left={c.changes_left ?? 0} />}
    </>
  );
}

const hasPlan = (c: Comparison) => c.files.includes("plan.png");

/** View is what there is to see, by kind. */
function View({ addresses: { before: first, after: second, both: of }, comparison: c }: { addresses: Addresses; comparison: Comparison }) {
  const has = (r: Comparison["before"], name: string) => r.files.includes(name);
  const both = (name: string) => has(c.before, name) && has(c.after, name);
  const plan = hasPlan(c) && (
    <div className="mt-6 grid gap-x-8 gap-y-6 lg:grid-cols-2">
      <figure>
        <img
          src={of("plan.png")}
          alt="Seen from above: what came is filled, what went is a ring, and a line leads from where something was"
          className="w-full rounded-lg"
        />
        <figcaption className="mt-1.5 text-peat">
          Seen from above. Filled: came, or moved here. Ring: went, or was here. Square: as before.
        </figcaption>
      </figure>
      {!c.table && (
        <div className="min-w-0">
          <Changes list={c.changes} left={c.changes_left ?? 0} narrow />
        </div>
      )}
    </div>
  );
  if (c.kind === "texture" && both("whole.png")) {
    return (
      <Pictures
        before={first("whole.png")}
        after={second("whole.png")}
        {...(c.files.includes("difference.png") && { difference: of("difference.png") })}
        {...(both("lit.png") && { lit: [first("lit.png"), second("lit.png")] as [string, string] })}
      />
    );
  }
  if (c.files.includes("was.png") && c.files.includes("is.png")) return <Circuits comparison={c} of={of} />;
  if (c.kind === "document") return <Pages comparison={c} first={first} second={second} of={of} />;
  if (c.kind === "other" && c.strip)
    return (
      <div className="mt-4">
        <Strip strip={c.strip} tall />
      </div>
    );
  if (c.kind === "model" && both("mesh.bin")) {
    return (
      <Suspense fallback={<p className="h-[30rem] text-peat">Loading the models …</p>}>
        <Models
          before={first("mesh.bin")}
          after={second("mesh.bin")}
          {...(c.files.includes("difference.png") && { difference: of("difference.png") })}
        />
        {plan}
      </Suspense>
    );
  }
  if (c.kind === "sound") {
    return <Sounds sides={[c.before, c.after].map((r, i) => ({ report: r, address: i === 0 ? first : second }))} />;
  }
  return (
    <>
      {plan}
      {c.table && <Matched table={c.table} />}
      {c.rows && c.rows.length > 0 && <Lines rows={c.rows} left={c.rows_left ?? 0} />}
    </>
  );
}

/** Circuits are a schematic, a board or a layer: drawn as one, with what went and what came, or as each was. */
function Circuits({ comparison: c, of }: { comparison: Comparison; of: (name: string) => string }) {
  const layers = c.files.filter((f) => f.startsWith("layer-"));
  const [layer, setLayer] = useState("difference.png");
  return (
    <>
      {layers.length > 0 && (
        <label className="mb-3 flex items-center gap-2">
          <span className="text-peat">Layers</span>
          <select className={`${fieldClass} max-w-56`} value={layer} onChange={(e) => setLayer(e.target.value)}>
            <option value="difference.png">all</option>
            {layers.map((f) => (
              <option key={f} value={f}>
                {f.slice("layer-".length, -".png".length)}
              </option>
            ))}
          </select>
        </label>
      )}
      <OnSheet shown={c.frame} of={c.after}>
        <Pictures
          before={of("was.png")}
          after={of("is.png")}
          {...(c.files.includes(layer) && { difference: of(layer) })}
          first="Difference"
          channels={false}
          legend="Copper, solid: came. Ice, dashed: went. Grey: as before."
        />
      </OnSheet>
    </>
  );
}
