import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ask } from "../../api/client";
import { useWhoIsHere } from "../../api/me";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { toTheHouse } from "../../parts/house";
import { NewPassphrase } from "../../parts/NewPassphrase";
import { Porch } from "../../parts/Porch";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { SignInForm } from "../signin/SignInForm";

export const overWords: Record<string, string> = {
  used: "It has been used by as many people as it was for.",
  expired: "Its time is over.",
  ended: "Somebody ended it.",
};

/** InvitedPage is what an invitation's link leads to: one joins as somebody new, or as who one is. Its secret stands behind the #. */
export function InvitedPage() {
  const [secret] = useState(() => location.hash.slice(1));
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [known, setKnown] = useState(false);
  useTitle("An invitation");
  const offer = useQuery({
    queryKey: ["invited", secret],
    queryFn: () => ask(api.POST("/invited", { body: { secret } })),
    staleTime: Infinity,
    retry: false,
    refetchOnWindowFocus: false,
  });
  // Who is signed in here joins as that, or signs out first.
  const me = useWhoIsHere();
  const handle = me.data?.handle;
  const into = (project: string) => {
    queries.clear();
    void navigate(`/p/${project}`, { replace: true });
  };
  const join = useMutation({
    mutationFn: () => ask(api.POST("/invited/join", { body: { secret } })),
    onSuccess: (joined) => into(joined.project),
  });
  const house = useQuery({ queryKey: ["service"], queryFn: () => ask(api.GET("/service")), staleTime: Infinity }).data?.house;
  const byHouse = useMutation({ mutationFn: () => toTheHouse(`/invited#${secret}`) });
  const o = offer.data;
  return (
    <Porch>
      {offer.error && (
        <>
          <h1>This link leads nowhere</h1>
          <p className="mt-2 text-peat">Either it is not whole, or there is no such invitation. Ask whoever sent it for another one.</p>
          <Trouble error={offer.error} />
        </>
      )}
      {o?.over && (
        <>
          <h1>This invitation is over</h1>
          <p className="mt-2 text-peat">
            {overWords[o.over]} Ask {o.by} for another one to {o.project}.
          </p>
        </>
      )}
      {o && !o.over && (
        <>
          <h1>
            {o.by} invites you to {o.project}
          </h1>
          <p className="mt-2 mb-6 text-peat">
            A team keeps its large files there. You become {o.role === "artist" ? "an artist" : `a ${o.role}`}: {roleWords[o.role]}
          </p>
          {me.isSuccess && handle && (
            <section aria-label="Join">
              <Button kind="act" className="w-full justify-center py-2" disabled={join.isPending} onClick={() => join.mutate()}>
                Join as {handle}
              </Button>
              <div className="mt-4">
                <Trouble error={join.error} />
              </div>
            </section>
          )}
          {me.isSuccess && !handle && !known && <JoinAsNew secret={secret} onIn={into} />}
          {me.isSuccess && !handle && known && (
            <SignInForm
              to={`/invited#${secret}`}
              onIn={() => {
                void me.refetch();
                join.mutate();
              }}
            />
          )}
          {me.isSuccess && !handle && house && !known && (
            <div className="mt-4">
              <Button className="w-full justify-center py-2" disabled={byHouse.isPending} onClick={() => byHouse.mutate()}>
                Come in with {house}
              </Button>
              <Trouble error={byHouse.error} />
            </div>
          )}
          {me.isSuccess && !handle && (
            <p className="mt-5">
              <Button kind="quiet" className="-ml-2.5" onClick={() => setKnown(!known)}>
                {known ? "I am new here" : "I have a handle here already"}
              </Button>
            </p>
          )}
        </>
      )}
    </Porch>
  );
}

export const roleWords: Record<string, string> = {
  viewer: "you look at everything, and change nothing.",
  artist: "you lock, change and send files.",
  lead: "you do what artists do, decide on rules and locks, and let people in.",
};

function JoinAsNew({ secret, onIn }: { secret: string; onIn: (project: string) => void }) {
  const [handle, setHandle] = useState("");
  const [passphrase, setPassphrase] = useState("");
  const [again, setAgain] = useState("");
  const join = useMutation({
    mutationFn: () =>
      ask(api.POST("/invited/new", { body: { secret, handle: handle.trim(), passphrase, from: "the console", console: true } })),
    onSuccess: (joined) => onIn(joined.project),
  });
  return (
    <form
      className="space-y-4"
      onSubmit={(e) => {
        e.preventDefault();
        if (again === passphrase) join.mutate();
      }}
    >
      <Field
        label="Choose a handle"
        name="handle"
        autoComplete="username"
        autoCapitalize="none"
        required
        aria-describedby="handle-words"
        value={handle}
        onType={setHandle}
      />
      <p id="handle-words" className="-mt-2 text-sm text-peat">
        By it the others know you: small letters, digits and dashes.
      </p>
      <NewPassphrase passphrase={passphrase} again={again} onPassphrase={setPassphrase} onAgain={setAgain} />
      <Button kind="act" type="submit" className="w-full justify-center py-2" disabled={join.isPending || passphrase !== again}>
        Join
      </Button>
      <Trouble error={join.error} />
    </form>
  );
}
