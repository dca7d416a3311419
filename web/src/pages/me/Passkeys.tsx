import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../../api/client";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { makePasskey, passkeysWork } from "../../parts/passkeys";
import { Trouble } from "../../parts/Trouble";
import { WayIn } from "./WayIn";

/** Passkeys are a way in beside the passphrase: one's own, a new one, and what takes one away. */
export function Passkeys() {
  const queries = useQueryClient();
  const [passphrase, setPassphrase] = useState("");
  const [name, setName] = useState("");
  const found = useQuery({ queryKey: ["me", "passkeys"], queryFn: () => ask(api.GET("/me/passkeys")) });
  const again = () => queries.invalidateQueries({ queryKey: ["me", "passkeys"] });
  const make = useMutation({
    mutationFn: () => makePasskey(passphrase, name.trim()),
    onSuccess: () => {
      setPassphrase("");
      setName("");
      return again();
    },
  });
  const remove = useMutation({
    mutationFn: (number: number) => ask(api.DELETE("/me/passkeys/{passkey}", { params: { path: { passkey: String(number) } } })),
    onSuccess: again,
  });
  const list = found.data?.passkeys ?? [];
  return (
    <section aria-labelledby="passkeys">
      <h2 id="passkeys">Your passkeys</h2>
      <p className="mt-2 max-w-sm text-peat">
        A passkey signs you in with a fingerprint, a face or the code of a device, without the passphrase. It never leaves the device.
      </p>
      <Trouble error={found.error} />
      <ul className="mt-2 max-w-sm">
        {list.map((p) => (
          <WayIn key={p.number} name={p.name} used={p.used} busy={remove.isPending} onTake={() => remove.mutate(p.number)} />
        ))}
      </ul>
      <Trouble error={remove.error} />
      {passkeysWork() ? (
        <form
          className="mt-3 max-w-sm space-y-3"
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <Field label="What it is called" name="passkey" maxLength={60} placeholder="the laptop" required value={name} onType={setName} />
          <Field
            label="Your passphrase, once more"
            name="once"
            type="password"
            autoComplete="current-password"
            required
            value={passphrase}
            onType={setPassphrase}
          />
          <Button type="submit" disabled={!passphrase || !name.trim() || make.isPending}>
            Add a passkey
          </Button>
          <Trouble error={make.error} />
        </form>
      ) : (
        <p className="mt-2 max-w-sm">They need a browser that knows them, and a service with a name, over https.</p>
      )}
    </section>
  );
}
