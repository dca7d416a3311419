import { api, ask, Problem, type Asset, type Schemas } from "../api/client";
import { consoleName, consoleSeat } from "../api/locks";
import type { Here } from "../pages/project/ProjectFrame";

/** Who sends, and to which project. */
export type Sender = Pick<Here, "key" | "me">;

/** A file that somebody chose, and its path among those that were chosen with it. */
export interface Given {
  file: File;
  path: string;
}

/** What becomes of a file: a new asset, or the next version of one that is there. */
export interface Item {
  file: File;
  path: string;
  /** What is there, or was there last. */
  asset?: Asset | undefined;
  /** What stands in the way: it is left out. */
  refusals: Schemas["Refusal"][];
  /** It needs its lock, which nobody has. */
  free: boolean;
}

const rulesFile = "tarn.toml";

/** Nothing is named by this digest: it stands where the content is not known yet. */
export const noContent = "0".repeat(64);

export const base = (item: Item) => item.asset?.newest ?? 0;
/** isNew says that nothing stands there now. */
export const isNew = (item: Item) => !item.asset || item.asset.gone === true;

/** change is what a send does with a file, whose content is named by a digest. */
export const change = (item: Item, content: string, empty = false): Schemas["SendChange"] => ({
  path: item.path,
  base: base(item),
  content,
  size: empty ? 0 : item.file.size,
  ...(item.asset?.executable && { executable: true }),
  ...(item.asset?.lock && { fence: item.asset.lock.fence }),
});

/** sending is the request of a send from the page. */
export const sending = (changes: Schemas["SendChange"][], about: About): Schemas["SendRequest"] => ({
  workspace: consoleSeat,
  take_free: true,
  changes,
  ...about,
});

export interface About {
  note: string;
  tasks: string[];
  stage?: string;
  older?: boolean;
}

/** prepare finds out what each file becomes, and what stands in the way, before anything travels: two requests, however many files. */
export async function prepare(here: Sender, given: Given[], folder: string, target: Asset | undefined): Promise<Item[]> {
  const paths = given.map((g) => target?.path ?? (folder ? `${folder}/${g.path}` : g.path));
  const params = { path: { project: here.key } };
  const { assets } = await ask(api.POST("/projects/{project}/assets/at", { params, body: { paths } }));
  const there = new Map(assets.map((a) => [a.path.toLowerCase(), a]));
  const items = given.map((g, i): Item => {
    const asset = there.get(paths[i]!.toLowerCase());
    const path = asset && !asset.gone ? asset.path : paths[i]!;
    return { file: g.file, path, asset, refusals: [], free: asset !== undefined && !asset.gone && !asset.lock };
  });
  // The rules that come along decide about the others.
  const rules = await items.find((i) => i.path.toLowerCase() === rulesFile)?.file.text();
  const changes = items.map((i) => change(i, noContent, true));
  try {
    const send = sending(changes, { note: "", tasks: [] });
    await ask(api.POST("/projects/{project}/sends/check", { params, body: { send, ...(rules !== undefined && { rules }) } }));
  } catch (error) {
    if (!(error instanceof Problem) || !error.details.refusals?.length) throw error;
    refuse(items, error.details.refusals);
  }
  return items;
}

/** refuse says of each item what stands in its way. */
export function refuse(items: Item[], refusals: Schemas["Refusal"][]): Item[] {
  const by = new Map<string, Schemas["Refusal"][]>();
  for (const r of refusals) by.set(r.path.toLowerCase(), [...(by.get(r.path.toLowerCase()) ?? []), r]);
  for (const item of items) item.refusals = by.get(item.path.toLowerCase()) ?? [];
  return items;
}

/** elsewhere says that one holds an asset oneself, in a folder. */
export const elsewhere = (here: Sender, item: Item) => item.asset?.lock?.holder === here.me && item.asset.lock.workspace !== consoleName;

/** filesOf are the files that were dropped, also those in folders, with their paths. */
export async function filesOf(data: DataTransfer): Promise<Given[]> {
  // Both have to be asked before the first wait: a drop is over then.
  const entries = [...data.items].map((i) => (i.kind === "file" ? i.webkitGetAsEntry() : null));
  const files = [...data.files];
  if (!entries.some((e) => e?.isDirectory)) return files.map((file) => ({ file, path: file.name }));
  const list: Given[] = [];
  for (const e of entries) if (e) await walk(e, "", list);
  return list;
}

async function walk(entry: FileSystemEntry, above: string, list: Given[]): Promise<void> {
  const path = above ? `${above}/${entry.name}` : entry.name;
  if (entry.isFile) {
    const file = await new Promise<File>((resolve, reject) => (entry as FileSystemFileEntry).file(resolve, reject));
    list.push({ file, path });
    return;
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  for (;;) {
    // A reader gives some at a time, and nothing at its end.
    const some = await new Promise<FileSystemEntry[]>((resolve, reject) => reader.readEntries(resolve, reject));
    if (some.length === 0) return;
    for (const e of some) await walk(e, path, list);
  }
}

/** chosen are the files of a field, of one that takes folders too. */
export const chosen = (files: FileList): Given[] => [...files].map((file) => ({ file, path: file.webkitRelativePath || file.name }));
