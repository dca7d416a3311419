import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../../api/client";
import { useMe, type Person } from "../../api/me";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { NewPassphrase } from "../../parts/NewPassphrase";
import { Page, Shore } from "../../parts/Shore";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { plural, When } from "../../parts/words";
import { House } from "./House";
import { Mail } from "./Mail";
import { Passkeys } from "./Passkeys";
import { Tokens } from "./Tokens";

/** MePage is who one is, and one's own ways in: name, mail, passphrase, where one is signed in, the house, passkeys, tokens. */
export function MePage() {
  useTitle("You");
  const me = useMe();
  return (
    <>
      <Shore />
      <Page>
        <h1 className="mb-5">{me.data?.handle}</h1>
        <div className="grid gap-x-12 gap-y-8 lg:grid-cols-[minmax(20rem,2fr)_minmax(0,3fr)]">
          <div className="space-y-8">
            {me.data && <Name me={me.data} />}
            <Mail />
            <Passphrase />
          </div>
          <div className="space-y-8">
            <SignIns />
            <House />
            <Passkeys />
            <Tokens />
          </div>
        </div>
      </Page>
    </>
  );
}

/** Name is how one is called besides one's handle. */
function Name({ me }: { me: Person }) {
  const queries = useQueryClient();
  const [name, setName] = useState(me.name ?? "");
  const keep = useMutation({
    mutationFn: () => ask(api.PUT("/me/name", { body: { name } })),
    onSuccess: () => queries.invalidateQueries(),
  });
  return (
    <section aria-labelledby="name">
      <h2 id="name">Your name</h2>
      <form
        className="mt-3 flex max-w-sm items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          keep.mutate();
        }}
      >
        <Field
          label="How others see you called, beside your handle"
          quiet
          name="name"
          autoComplete="name"
          maxLength={80}
          className="flex-1"
          value={name}
          onType={setName}
        />
        <Button type="submit" disabled={keep.isPending || name.trim() === (me.name ?? "")}>
          Keep it
        </Button>
      </form>
      {keep.isSuccess && name.trim() === (me.name ?? "") && (
        <p role="status" className="mt-2 text-ice">
          {me.name ? `Others see you as ${me.name}.` : "Others see your handle alone."}
        </p>
      )}
      <Trouble error={keep.error} />
    </section>
  );
}

function Passphrase() {
  const queries = useQueryClient();
  const [old, setOld] = useState("");
  const [fresh, setFresh] = useState("");
  const [again, setAgain] = useState("");
  const change = useMutation({
    mutationFn: () => ask(api.PUT("/me/passphrase", { body: { old, new: fresh } })),
    onSuccess: () => {
      setOld("");
      setFresh("");
      setAgain("");
      return queries.invalidateQueries({ queryKey: ["me", "sign-ins"] });
    },
  });
  return (
    <section aria-labelledby="passphrase">
      <h2 id="passphrase">Your passphrase</h2>
      <form
        className="mt-3 max-w-sm space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate();
        }}
      >
        <Field
          label="The one that you have"
          name="old"
          type="password"
          autoComplete="current-password"
          required
          value={old}
          onType={setOld}
        />
        <NewPassphrase label="The new one" passphrase={fresh} again={again} onPassphrase={setFresh} onAgain={setAgain} />
        <Button kind="act" type="submit" disabled={!old || !fresh || fresh !== again || change.isPending}>
          Change it
        </Button>
        {change.data && (
          <p role="status" className="text-peat">
            Changed. {plural(change.data.ended, "sign-in")} elsewhere ended.
          </p>
        )}
        <Trouble error={change.error} />
      </form>
    </section>
  );
}

function SignIns() {
  const queries = useQueryClient();
  const found = useQuery({ queryKey: ["me", "sign-ins"], queryFn: () => ask(api.GET("/me/sign-ins")) });
  const end = useMutation({
    mutationFn: (signin: string) => ask(api.DELETE("/me/sign-ins/{signin}", { params: { path: { signin } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["me", "sign-ins"] }),
  });
  const list = found.data?.sign_ins ?? [];
  return (
    <section aria-labelledby="signins">
      <h2 id="signins">Where you are signed in</h2>
      <Trouble error={found.error} />
      <table className="mt-3 w-full border-collapse text-left">
        <thead className="text-peat">
          <tr className="border-b border-line">
            <th className="py-1.5 pr-4 font-normal">From</th>
            <th className="py-1.5 pr-4 font-normal">Since</th>
            <th className="py-1.5 pr-4 font-normal">Last used</th>
            <th className="py-1.5 font-normal">
              <span className="sr-only">End it</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {list.map((s) => (
            <tr key={s.id} className="border-b border-line">
              <td className="py-2 pr-4">{s.from || "not said"}</td>
              <td className="py-2 pr-4 text-peat">
                <When at={s.made} />
              </td>
              <td className="py-2 pr-4 text-peat">{s.used ? <When at={s.used} /> : "never"}</td>
              <td className="py-1 text-right">
                {s.here ? (
                  <span className="text-ice">this one</span>
                ) : (
                  <Button
                    kind="quiet"
                    disabled={end.isPending}
                    aria-label={`End the sign-in from ${s.from || "somewhere"}`}
                    onClick={() => end.mutate(String(s.id))}
                  >
                    End
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {list.length > 1 && (
        <Button className="mt-4" disabled={end.isPending} onClick={() => end.mutate("others")}>
          End all others
        </Button>
      )}
      <Trouble error={end.error} />
    </section>
  );
}
