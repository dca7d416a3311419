/** What was on its way when a page was left: kept in the browser's tab, so that the next page knows of it. */
interface Unfinished {
  files: number;
  folder: string;
  note: string;
}

const name = (key: string) => `sending ${key}`;

export const unfinished = {
  keep: (key: string, what: Unfinished) => sessionStorage.setItem(name(key), JSON.stringify(what)),
  over: (key: string) => sessionStorage.removeItem(name(key)),
  of(key: string): Unfinished | undefined {
    try {
      return (JSON.parse(sessionStorage.getItem(name(key)) ?? "null") as Unfinished | null) ?? undefined;
    } catch {
      return undefined;
    }
  },
};
