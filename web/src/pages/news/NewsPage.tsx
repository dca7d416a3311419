import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { telling, useTelling } from "../../acts/telling";
import { api, ask, type Schemas } from "../../api/client";
import { fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { MailCode } from "../../parts/MailCode";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { useHere } from "../project/ProjectFrame";
import { Hooks } from "./Hooks";

type Settings = Schemas["NewsSettings"];

const mailWords: Record<string, string> = { "at-once": "at once", daily: "in the daily summary", never: "never" };

/** News: how one hears of what happens, and, for leads, where else a project's news goes. */
export function NewsPage() {
  useTitle("News");
  const here = useHere();
  const found = useQuery({ queryKey: ["me", "news"], queryFn: () => ask(api.GET("/me/news")) });
  return (
    <div className="grid gap-x-12 gap-y-8 lg:grid-cols-[minmax(0,3fr)_minmax(20rem,2fr)]">
      <section aria-labelledby="hear">
        <h1 id="hear">How you hear of things</h1>
        <p className="mt-1 mb-4 max-w-prose text-peat">
          This page and tarn watch tell everything as it happens. Here is what reaches you elsewhere, in all your projects: by mail, and on
          the desktop of a machine on which tarn watch runs.
        </p>
        <InBrowser />
        <Trouble error={found.error} />
        {found.data && <Form settings={found.data} />}
        {found.data?.mail_wanted && <MailCode address={found.data.mail_wanted} />}
      </section>
      {here.mayLead && <Hooks here={here} />}
    </div>
  );
}

/** InBrowser is whether this browser tells what concerns one: in its tab's title, and while one looks elsewhere by its own notifications. */
function InBrowser() {
  const on = useTelling();
  const [shows, setShows] = useState(true);
  return (
    <label className="mb-5 flex items-start gap-2">
      <input
        type="checkbox"
        className="mt-1 size-4 accent-copper"
        checked={on}
        onChange={(e) => (e.target.checked ? void telling.begin().then(setShows) : telling.end())}
      />
      <span>
        Tell me in this browser: how much is new in the tab’s title, and, while I look elsewhere, what is urgent as a notification
        {on && !shows && <span className="block text-peat">This browser shows no notifications for this address; the title it does.</span>}
      </span>
    </label>
  );
}

function Form({ settings }: { settings: Settings }) {
  const queries = useQueryClient();
  const [mail, setMail] = useState(settings.mail_wanted || settings.mail);
  const [kinds, setKinds] = useState(settings.kinds);
  const save = useMutation({
    mutationFn: () => ask(api.PUT("/me/news", { body: { mail: mail.trim(), mail_works: settings.mail_works, kinds } })),
    onSuccess: (answer) => queries.setQueryData(["me", "news"], answer),
  });
  const set = (name: string, change: Partial<Settings["kinds"][number]>) =>
    setKinds(kinds.map((k) => (k.name === name ? { ...k, ...change } : k)));
  const same = mail === (settings.mail_wanted || settings.mail) && JSON.stringify(kinds) === JSON.stringify(settings.kinds);
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <label className="block max-w-md">
        <span className="mb-1 block">Your mail address</span>
        <input className={fieldClass} type="email" value={mail} placeholder="none: no mail" onChange={(e) => setMail(e.target.value)} />
      </label>
      {!settings.mail_works && (
        <p className="mt-1 text-rust">
          This service has no mail server: whoever runs it sets one with TARND_MAIL. Until then nothing goes by mail.
        </p>
      )}
      <table className="mt-5 w-full border-collapse text-left">
        <thead className="text-peat">
          <tr className="border-b border-line">
            <th className="py-1.5 pr-4 font-normal">When</th>
            <th className="py-1.5 pr-4 font-normal">By mail</th>
            <th className="py-1.5 font-normal">Desktop</th>
          </tr>
        </thead>
        <tbody>
          {kinds.map((k) => (
            <tr key={k.name} className="border-b border-line">
              <td className="py-2 pr-4 first-letter:uppercase">{k.about}</td>
              <td className="w-52 py-2 pr-4">
                <select
                  className={fieldClass}
                  value={k.mail}
                  aria-label={`By mail: ${k.about}`}
                  onChange={(e) => set(k.name, { mail: e.target.value })}
                >
                  {Object.entries(mailWords).map(([v, words]) => (
                    <option key={v} value={v}>
                      {words}
                    </option>
                  ))}
                </select>
              </td>
              <td className="py-2 text-center">
                <input
                  type="checkbox"
                  className="size-4 accent-copper"
                  checked={k.desktop}
                  aria-label={`On the desktop: ${k.about}`}
                  onChange={(e) => set(k.name, { desktop: e.target.checked })}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="mt-4 flex items-center gap-3">
        <Button kind="act" type="submit" disabled={same || save.isPending}>
          Keep this
        </Button>
        {save.isSuccess && same && (
          <span role="status" className="text-peat">
            Kept.
          </span>
        )}
      </div>
      <Trouble error={save.error} />
    </form>
  );
}
