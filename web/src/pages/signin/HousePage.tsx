import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api, ask, type Schemas } from "../../api/client";
import { useWhoIsHere } from "../../api/me";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { fromTheHouse, inside } from "../../parts/house";
import { Porch } from "../../parts/Porch";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { Credentials } from "./SignInForm";

/** HousePage is where the sign-on of the house sends one back: one is in, or says who one is, once. */
export function HousePage() {
  const [came] = useState(fromTheHouse);
  const navigate = useNavigate();
  const queries = useQueryClient();
  useTitle("Sign in");
  const to = came && inside(came.to) ? came.to : "/";
  const go = (where = to) => {
    queries.clear();
    void navigate(where, { replace: true });
  };
  const arrive = useMutation({
    mutationFn: (q: { state: string; code: string }) =>
      ask(api.POST("/sign-in/house", { body: { ...q, from: "the console", console: true } })),
    onSuccess: (answer) => answer.sign_in && go(),
  });
  const { mutate, isIdle } = arrive;
  useEffect(() => {
    history.replaceState(history.state, "", "/sign-in/house"); // the code is nobody's business
    if (came?.code && isIdle) mutate({ state: came.state, code: came.code });
  }, [came, isIdle, mutate]);
  const arrival = arrive.data?.arrival;
  return (
    <Porch>
      {(!came?.code || arrive.error) && (
        <>
          <h1>You are not signed in</h1>
          <p className="mt-2 text-peat">
            {!came ? "This window did not ask for that." : !came.code ? "You were not let in there, or turned back." : ""}
          </p>
          <Trouble error={arrive.error} />
          <Button
            kind="act"
            className="mt-6 w-full justify-center py-2"
            onClick={() => void navigate(`/sign-in?to=${encodeURIComponent(to)}`)}
          >
            Sign in
          </Button>
        </>
      )}
      {arrive.isPending && <p role="status">One moment.</p>}
      {arrival && <WhoIsThat arrival={arrival} to={to} onIn={go} />}
    </Porch>
  );
}

/** WhoIsThat is for whoever the house knows, and the service does not: they are tied to who they are here, or come as new. */
function WhoIsThat({ arrival, to, onIn }: { arrival: Schemas["HouseArrival"]; to: string; onIn: (where?: string) => void }) {
  const invitation = /^\/invited#(\w+)$/.exec(to)?.[1];
  const mayBeNew = arrival.new || !!invitation;
  const me = useWhoIsHere();
  const [here, setHere] = useState(!mayBeNew);
  if (!me.isSuccess) return null;
  return (
    <>
      <h1>You are {arrival.shown}</h1>
      {me.data ? (
        <TieMine arrival={arrival} handle={me.data.handle} onIn={() => onIn()} />
      ) : here ? (
        <TieByPassphrase arrival={arrival} onIn={() => onIn()} />
      ) : (
        <ComeAsNew arrival={arrival} invitation={invitation} onIn={() => onIn(invitation && "/")} />
      )}
      {!me.data && mayBeNew && (
        <p className="mt-5">
          <Button kind="quiet" className="-ml-2.5" onClick={() => setHere(!here)}>
            {here ? "I am new here" : "I have a handle here already"}
          </Button>
        </p>
      )}
    </>
  );
}

function TieMine({ arrival, handle, onIn }: { arrival: Schemas["HouseArrival"]; handle: string; onIn: () => void }) {
  const [passphrase, setPassphrase] = useState("");
  const tie = useMutation({
    mutationFn: () => ask(api.POST("/me/house", { body: { secret: arrival.secret, passphrase, from: "the console" } })),
    onSuccess: onIn,
  });
  return (
    <form
      className="mt-2 space-y-4"
      onSubmit={(e) => {
        e.preventDefault();
        tie.mutate();
      }}
    >
      <p className="text-peat">From now on, that account signs you in here as {handle}. Your passphrase says that it is you who ties it.</p>
      <Field
        label="Your passphrase, if you have one"
        name="once"
        type="password"
        autoComplete="current-password"
        autoFocus
        value={passphrase}
        onType={setPassphrase}
      />
      <Button kind="act" type="submit" className="w-full justify-center py-2" disabled={tie.isPending}>
        Tie it to {handle}
      </Button>
      <Trouble error={tie.error} />
    </form>
  );
}

function TieByPassphrase({ arrival, onIn }: { arrival: Schemas["HouseArrival"]; onIn: () => void }) {
  const [handle, setHandle] = useState(arrival.handle);
  const [passphrase, setPassphrase] = useState("");
  const tie = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/sign-in/house/tie", {
          body: { secret: arrival.secret, handle: handle.trim(), passphrase, from: "the console", console: true },
        }),
      ),
    onSuccess: onIn,
  });
  return (
    <form
      className="mt-2"
      onSubmit={(e) => {
        e.preventDefault();
        tie.mutate();
      }}
    >
      <p className="mb-4 text-peat">
        Who is that here? Say it once, with your passphrase; from then on that account signs you in.
        {!arrival.new && " You have no handle here? Ask your lead for an invitation, and sign in from its page."}
      </p>
      <Credentials handle={handle} onHandle={setHandle} passphrase={passphrase} onPassphrase={setPassphrase} focus="passphrase" />
      <Button kind="act" type="submit" className="w-full justify-center py-2" disabled={tie.isPending}>
        That is me
      </Button>
      <div className="mt-4">
        <Trouble error={tie.error} />
      </div>
    </form>
  );
}

function ComeAsNew({ arrival, invitation, onIn }: { arrival: Schemas["HouseArrival"]; invitation: string | undefined; onIn: () => void }) {
  const [handle, setHandle] = useState(arrival.handle);
  const come = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/sign-in/house/new", {
          body: { secret: arrival.secret, handle: handle.trim(), from: "the console", console: true, ...(invitation && { invitation }) },
        }),
      ),
    onSuccess: onIn,
  });
  return (
    <form
      className="mt-2 space-y-4"
      onSubmit={(e) => {
        e.preventDefault();
        come.mutate();
      }}
    >
      <p className="text-peat">Nobody here is that yet. Choose how the others know you: small letters, digits and dashes.</p>
      <Field
        label="Choose a handle"
        name="handle"
        autoComplete="username"
        autoCapitalize="none"
        required
        autoFocus
        value={handle}
        onType={setHandle}
      />
      <Button kind="act" type="submit" className="w-full justify-center py-2" disabled={come.isPending}>
        Come in
      </Button>
      <Trouble error={come.error} />
    </form>
  );
}
