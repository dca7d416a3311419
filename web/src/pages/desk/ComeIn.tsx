import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { Trouble } from "../../parts/Trouble";
import { Credentials } from "../signin/SignInForm";
import { useWork } from "./useWork";

/** ComeIn is the first thing on the first day: where the service is, and who one is. */
export function ComeIn({ service: known, handle: who }: { service: string; handle: string }) {
  const queries = useQueryClient();
  const [service, setService] = useState(known);
  const [handle, setHandle] = useState(who);
  const [passphrase, setPassphrase] = useState("");
  const enter = useWork("sign_in", () => void queries.invalidateQueries());
  return (
    <section className="mx-auto max-w-md">
      <h2 className="text-2xl">{known ? "Sign in again" : "Welcome to Kettle Tarn"}</h2>
      <p className="mt-2 mb-5 text-peat">
        {known
          ? "Your sign-in on this machine has ended. Your files are as they are."
          : "Whoever leads your project knows the address, and made a handle for you."}
      </p>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate({ service: service.trim(), handle: handle.trim(), passphrase });
        }}
      >
        <Field
          label="Address of the service"
          className="mb-3 block"
          name="service"
          placeholder="https://tarn.example"
          required
          autoFocus={!known}
          value={service}
          onType={setService}
        />
        <Credentials
          handle={handle}
          onHandle={setHandle}
          passphrase={passphrase}
          onPassphrase={setPassphrase}
          focus={known ? "passphrase" : undefined}
        />
        <Button kind="act" type="submit" className="w-full justify-center py-2" disabled={enter.isPending}>
          Sign in
        </Button>
        <div className="mt-4">
          <Trouble error={enter.error} />
        </div>
      </form>
    </section>
  );
}
