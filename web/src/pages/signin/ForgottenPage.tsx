import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ask } from "../../api/client";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { NewPassphrase } from "../../parts/NewPassphrase";
import { Porch } from "../../parts/Porch";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";

/** ForgottenPage is for who forgot their passphrase, or has none yet: by a link, whose secret stands behind the #, they choose one. */
export function ForgottenPage() {
  const [secret] = useState(() => location.hash.slice(1));
  useTitle("Another passphrase");
  return <Porch>{secret ? <Choose secret={secret} /> : <AskForOne />}</Porch>;
}

function AskForOne() {
  const [handle, setHandle] = useState("");
  const send = useMutation({ mutationFn: () => ask(api.POST("/forgotten", { body: { handle: handle.trim() } })) });
  return (
    <>
      <h1>You forgot your passphrase</h1>
      {send.isSuccess ? (
        <p role="status" className="mt-3">
          If there is somebody of that handle who has shown a mail address, a link is on its way there. It is good once, for two hours.
          Nothing comes? Whoever runs the service can give you one.
        </p>
      ) : (
        <form
          className="mt-4 space-y-4"
          onSubmit={(e) => {
            e.preventDefault();
            send.mutate();
          }}
        >
          <Field
            label="Your handle"
            name="handle"
            autoComplete="username"
            autoCapitalize="none"
            required
            value={handle}
            onType={setHandle}
          />
          <Button kind="act" type="submit" className="w-full justify-center py-2" disabled={send.isPending}>
            Send me a link
          </Button>
          <Trouble error={send.error} />
        </form>
      )}
      <p className="mt-6">
        <Link to="/sign-in">Sign in</Link>
      </p>
    </>
  );
}

function Choose({ secret }: { secret: string }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [passphrase, setPassphrase] = useState("");
  const [again, setAgain] = useState("");
  const found = useQuery({
    queryKey: ["forgotten", secret],
    queryFn: () => ask(api.POST("/forgotten/look", { body: { secret } })),
    staleTime: Infinity,
    retry: false,
    refetchOnWindowFocus: false,
  });
  const choose = useMutation({
    mutationFn: () => ask(api.POST("/forgotten/choose", { body: { secret, passphrase, from: "the console", console: true } })),
    onSuccess: () => {
      queries.clear();
      void navigate("/", { replace: true });
    },
  });
  if (found.error)
    return (
      <>
        <h1>This link leads nowhere</h1>
        <Trouble error={found.error} />
      </>
    );
  if (!found.data) return null;
  return (
    <>
      <h1>A passphrase for {found.data.handle}</h1>
      <p className="mt-2 mb-5 text-peat">Your sign-ins elsewhere end with it, and your passkeys and ties to the sign-on of your house.</p>
      <form
        className="space-y-4"
        onSubmit={(e) => {
          e.preventDefault();
          if (again === passphrase) choose.mutate();
        }}
      >
        <NewPassphrase passphrase={passphrase} again={again} onPassphrase={setPassphrase} onAgain={setAgain} />
        <Button kind="act" type="submit" className="w-full justify-center py-2" disabled={choose.isPending || passphrase !== again}>
          Take it, and sign in
        </Button>
        <Trouble error={choose.error} />
      </form>
    </>
  );
}
