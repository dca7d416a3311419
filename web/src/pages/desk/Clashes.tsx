import type { Workspace } from "../../api/desk";
import type { Asset } from "../../api/desk.gen";
import { Button } from "../../parts/Button";
import { Picture } from "../../parts/Picture";
import { firstLine } from "../../parts/words";
import { HerePicture } from "./Pictures";
import { useWork } from "./useWork";
import { Refused } from "./WaysOut";

/** Clashes are what was changed here and there: yours, theirs and what both came from, side by side, and one click. */
export function Clashes({ w, list }: { w: Workspace; list: Asset[] }) {
  if (list.length === 0) return null;
  return (
    <section aria-label="Changed here and there" className="space-y-6">
      {list.map((a) => (
        <Clash key={a.path} w={w} asset={a} />
      ))}
    </section>
  );
}

function Clash({ w, asset: a }: { w: Workspace; asset: Asset }) {
  const settle = useWork("settle");
  const use = (how: string) => settle.mutate({ workspace: w.workspace, path: a.path, use: how });
  const sides = [
    {
      words: "Yours",
      about: "as it is on this machine",
      picture: <HerePicture w={w} asset={a} edge={320} className="aspect-square w-full rounded-md" />,
      act: "Use yours",
      how: "mine",
      after: "yours follows on theirs when you send it",
    },
    {
      words: "Theirs",
      about: a.gone ? (a.moved_to ? `moved to ${a.moved_to} by ${a.author}` : `removed by ${a.author}`) : `v${a.newest} by ${a.author}`,
      picture: (
        <Picture project={w.project} path={a.path} version={a.gone ? 0 : a.newest} edge={320} className="aspect-square w-full rounded-md" />
      ),
      act: "Use theirs",
      how: "theirs",
      after: "yours is put away, and can be brought back",
    },
  ];
  return (
    <div className="rounded-lg border border-rust p-5">
      <h3 className="text-lg break-all">{a.path}</h3>
      <p className="mb-3 text-peat">
        You changed it, and so did {a.author || "somebody"}
        {a.note && <>: “{firstLine(a.note)}”</>}. Which one goes on?
      </p>
      <div className="grid gap-4 sm:grid-cols-3">
        {sides.map((s) => (
          <figure key={s.how}>
            {s.picture}
            <figcaption className="mt-1.5">
              <span className="font-medium">{s.words}</span> <span className="text-peat">{s.about}</span>
              <Button className="mt-2 w-full justify-center" disabled={settle.isPending} onClick={() => use(s.how)} title={s.after}>
                {s.act}
              </Button>
              <span className="mt-1 block text-xs text-peat">{s.after}</span>
            </figcaption>
          </figure>
        ))}
        {a.version ? (
          <figure>
            <Picture
              project={w.project}
              path={a.path}
              version={a.version}
              edge={320}
              className="aspect-square w-full rounded-md opacity-80"
            />
            <figcaption className="mt-1.5">
              <span className="font-medium">Both came from</span> <span className="text-peat">v{a.version}</span>
              <Button className="mt-2 w-full justify-center" disabled={settle.isPending} onClick={() => use("both")}>
                Keep both
              </Button>
              <span className="mt-1 block text-xs text-peat">yours under a second name, beside theirs</span>
            </figcaption>
          </figure>
        ) : null}
      </div>
      <Refused w={w} error={settle.error} />
    </div>
  );
}
