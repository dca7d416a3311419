import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../../api/client";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { toTheHouse } from "../../parts/house";
import { passkeysWork, signInByPasskey } from "../../parts/passkeys";
import { Trouble } from "../../parts/Trouble";

/** SignInForm signs somebody in; known is who it was before, and to the page where one goes on after a way over the house. */
export function SignInForm({ known = "", to, onIn }: { known?: string; to: string; onIn: (handle: string) => void }) {
  const [handle, setHandle] = useState(known);
  const [passphrase, setPassphrase] = useState("");
  const enter = useMutation({
    mutationFn: () => ask(api.POST("/sign-in", { body: { handle: handle.trim(), passphrase, from: "the console", console: true } })),
    onSuccess: () => onIn(handle.trim()),
  });
  const house = useQuery({ queryKey: ["service"], queryFn: () => ask(api.GET("/service")), staleTime: Infinity }).data?.house;
  const byHouse = useMutation({ mutationFn: () => toTheHouse(to) });
  const byPasskey = useMutation({ mutationFn: signInByPasskey, onSuccess: (answer) => onIn(answer.handle) });
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        enter.mutate();
      }}
    >
      <Credentials
        handle={handle}
        onHandle={setHandle}
        passphrase={passphrase}
        onPassphrase={setPassphrase}
        focus={known ? "passphrase" : "handle"}
      />
      <Button kind="act" type="submit" className="mb-4 w-full justify-center py-2" disabled={enter.isPending}>
        Sign in
      </Button>
      <Trouble error={enter.error} />
      {house && (
        <>
          <Button type="button" className="mb-3 w-full justify-center py-2" disabled={byHouse.isPending} onClick={() => byHouse.mutate()}>
            Sign in with {house}
          </Button>
          <Trouble error={byHouse.error} />
        </>
      )}
      {passkeysWork() && (
        <>
          <Button type="button" className="w-full justify-center py-2" disabled={byPasskey.isPending} onClick={() => byPasskey.mutate()}>
            Sign in with a passkey
          </Button>
          <Trouble error={byPasskey.error} />
        </>
      )}
    </form>
  );
}

/** Credentials is who one is: the handle and the passphrase, fresh where both are chosen now; focus is where one begins to type. */
export function Credentials({
  handle,
  onHandle,
  passphrase,
  onPassphrase,
  focus,
  fresh = false,
}: {
  handle: string;
  onHandle: (text: string) => void;
  passphrase: string;
  onPassphrase: (text: string) => void;
  focus?: "handle" | "passphrase" | undefined;
  fresh?: boolean;
}) {
  return (
    <>
      <Field
        label="Handle"
        className="mb-3 block"
        name="handle"
        autoComplete="username"
        autoCapitalize="none"
        autoFocus={focus === "handle"}
        required
        value={handle}
        onType={onHandle}
      />
      <Field
        label="Passphrase"
        className="mb-5 block"
        name="passphrase"
        type="password"
        autoComplete={fresh ? "new-password" : "current-password"}
        autoFocus={focus === "passphrase"}
        required
        value={passphrase}
        onType={onPassphrase}
      />
    </>
  );
}
