import { useState } from "react";
import { outcomes } from "../../acts/outcomes";
import { Problem, type Asset } from "../../api/client";
import { atDesk, give, useDesk, type Workspace } from "../../api/desk";
import type { Sender, Given } from "../../sending/prepare";
import { SendFiles } from "../../sending/SendFiles";
import { Ask } from "../../parts/Ask";
import { Trouble } from "../../parts/Trouble";
import { plural, size } from "../../parts/words";
import { Bar } from "./Going";
import { WhichFolder } from "./WhichFolder";

interface Props {
  here: Sender;
  files: Given[];
  folder: string;
  target?: Asset | undefined;
  onClose: () => void;
}

/** Whether files of a project that are dropped on a page go into a folder of this machine. */
export function usePutsHere(project: string): Workspace[] {
  const desk = useDesk();
  return atDesk ? desk.workspaces.filter((w) => w.project === project && w.known) : [];
}

/** TakeFiles is what becomes of files that were dropped on a page: at the desk they go into the folder here, elsewhere they are sent. */
export function TakeFiles(props: Props) {
  const places = usePutsHere(props.here.key);
  return places.length > 0 ? <PutHere {...props} places={places} /> : <SendFiles {...props} />;
}

interface Came {
  put: string[];
  /** The rules leave these out. */
  left: string[];
  there: Given[];
  failed: unknown[];
}

function PutHere({ files, folder, target, places, onClose }: Props & { places: Workspace[] }) {
  const [workspace, setWorkspace] = useState(places[0]!.workspace);
  const [done, setDone] = useState<{ bytes: number; total: number }>();
  const [came, setCame] = useState<Came>();
  const place = places.find((w) => w.workspace === workspace) ?? places[0]!;
  const pathOf = (g: Given) => target?.path ?? (folder ? `${folder}/${g.path}` : g.path);
  const total = files.reduce((n, g) => n + g.file.size, 0);

  const put = async (list: Given[], over: boolean, before?: Came) => {
    const now: Came = { put: before?.put ?? [], left: before?.left ?? [], there: [], failed: [] };
    let bytes = 0;
    const all = list.reduce((n, g) => n + g.file.size, 0);
    setDone({ bytes, total: all });
    for (const g of list) {
      try {
        const test = await give(place.workspace, pathOf(g), g.file, over, (n) => setDone({ bytes: bytes + n, total: all }));
        (test.kind === "asset" || test.asset ? now.put : now.left).push(test.path);
      } catch (error) {
        if (error instanceof Problem && error.details.type.endsWith(":there-already")) now.there.push(g);
        else now.failed.push(error);
      }
      bytes += g.file.size;
    }
    setDone(undefined);
    if (now.there.length + now.failed.length + now.left.length === 0) {
      outcomes.done(
        "put",
        `${now.put.length === 1 ? now.put[0]! : plural(now.put.length, "file")} put into the folder here; My work sends it`,
      );
      onClose();
      return;
    }
    setCame(now);
  };

  const asking = came && came.there.length > 0;
  return (
    <Ask
      open
      title={
        came
          ? `${plural(came.put.length, "file")} put here`
          : `Put ${files.length === 1 ? files[0]!.file.name : plural(files.length, "file")} into the folder on this machine?`
      }
      action={asking ? `Put ${plural(came.there.length, "file")} over` : came ? "Done" : "Put here"}
      busy={done !== undefined}
      onAct={() => (asking ? void put(came.there, true, came) : came ? onClose() : void put(files, false))}
      onClose={onClose}
    >
      {!came && (
        <p>
          {size(total)} into {target ? target.path : folder || "the first folder"}, in {place.folder}. Nobody else gets it before you send
          it.
        </p>
      )}
      {!came && <WhichFolder places={places} chosen={workspace} onChoose={setWorkspace} />}
      {done && <Bar part={done.total > 0 ? done.bytes / done.total : 0} label="Putting files here" />}
      {asking && (
        <>
          <p className="text-ink">
            {plural(came.there.length, "file of that name is", "files of those names are")} here already. What was changed there and not
            sent is put away for 30 days.
          </p>
          <Names list={came.there.map(pathOf)} />
        </>
      )}
      {came && came.left.length > 0 && (
        <>
          <p className="text-ink">
            The rules leave {came.left.length} of these out; nobody else gets {came.left.length === 1 ? "it" : "them"}. My work says why.
          </p>
          <Names list={came.left} />
        </>
      )}
      {came?.failed.map((error, i) => (
        <Trouble key={i} error={error} />
      ))}
    </Ask>
  );
}

function Names({ list }: { list: string[] }) {
  return (
    <ul className="max-h-48 overflow-y-auto border-y border-line py-1.5">
      {list.slice(0, 60).map((p) => (
        <li key={p} className="py-0.5 wrap-anywhere">
          {p}
        </li>
      ))}
      {list.length > 60 && <li className="py-0.5">and {(list.length - 60).toLocaleString("en")} more</li>}
    </ul>
  );
}
