import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, ask } from "../../api/client";
import { useMe } from "../../api/me";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { Page, Shore } from "../../parts/Shore";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";

/** ConfirmPage is where one says yes to a sign-in of a program elsewhere, by the code that it shows. */
export function ConfirmPage() {
  useTitle("Sign in elsewhere");
  const me = useMe();
  const [params] = useSearchParams();
  const [code, setCode] = useState(params.get("code") ?? "");
  const look = useMutation({ mutationFn: () => ask(api.POST("/me/elsewhere/look", { body: { code } })) });
  const answer = useMutation({ mutationFn: (yes: boolean) => ask(api.POST("/me/elsewhere", { body: { code, yes } })) });
  const waits = look.data;
  return (
    <>
      <Shore />
      <Page>
        <div className="mx-auto max-w-md">
          <h1>Sign in elsewhere</h1>
          {answer.isSuccess ? (
            <p role="status" className="mt-3">
              {answer.variables
                ? "You are in there, in a few seconds. This page has done its work; where you are signed in is on your own page."
                : "It was not let in."}
            </p>
          ) : waits ? (
            <section aria-label="Yes or no" className="mt-3 space-y-4">
              <p>
                <strong className="wrap-anywhere">{waits.from}</strong> wants to be signed in as <strong>{me.data?.handle}</strong>. It asks
                from {waits.address}.
              </p>
              <p className="text-peat">
                Say yes only where you began this yourself, just now, and it shows{" "}
                <strong className="text-nowrap">{code.toUpperCase()}</strong>. If somebody sent you here, say no: it could do what you may
                do.
              </p>
              <div className="flex gap-3">
                <Button kind="act" disabled={answer.isPending} onClick={() => answer.mutate(true)}>
                  Yes, that is me
                </Button>
                <Button disabled={answer.isPending} onClick={() => answer.mutate(false)}>
                  No
                </Button>
              </div>
              <Trouble error={answer.error} />
            </section>
          ) : (
            <form
              className="mt-3 space-y-4"
              onSubmit={(e) => {
                e.preventDefault();
                look.mutate();
              }}
            >
              <p className="text-peat">Where you want to sign in, you were shown a code of eight letters.</p>
              <Field
                label="The code"
                name="code"
                autoComplete="off"
                autoCapitalize="characters"
                spellCheck={false}
                placeholder="KFRM-TZDW"
                required
                autoFocus
                value={code}
                onType={setCode}
              />
              <Button kind="act" type="submit" disabled={look.isPending}>
                Go on
              </Button>
              <Trouble error={look.error} />
            </form>
          )}
        </div>
      </Page>
    </>
  );
}
