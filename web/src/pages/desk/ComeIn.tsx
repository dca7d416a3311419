import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";
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
        <label className="mb-3 block">
          <span className="mb-1 block font-medium">Address of the service</span>
          <input
            className={fieldClass}
            name="service"
            placeholder="https://tarn.example"
            required
            value={service}
            onChange={(e) => setService(e.target.value)}
          />
        </label>
        <label className="mb-3 block">
          <span className="mb-1 block font-medium">Handle</span>
          <input
            className={fieldClass}
            name="handle"
            autoComplete="username"
            autoCapitalize="none"
            required
            value={handle}
            onChange={(e) => setHandle(e.target.value)}
          />
        </label>
        <label className="mb-5 block">
          <span className="mb-1 block font-medium">Passphrase</span>
          <input
            className={fieldClass}
            name="passphrase"
            type="password"
            autoComplete="current-password"
            required
            value={passphrase}
            onChange={(e) => setPassphrase(e.target.value)}
          />
        </label>
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
