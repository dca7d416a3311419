import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call } from "../../api/desk";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { Trouble } from "../../parts/Trouble";
import { overWords } from "../invited/InvitedPage";
import { Credentials } from "../signin/SignInForm";
import { useWork } from "./useWork";

/** ComeIn is the first thing on the first day: where the service is, or the link of an invitation, and who one is. */
export function ComeIn({ service: known, handle: who }: { service: string; handle: string }) {
  const queries = useQueryClient();
  const [service, setService] = useState(known);
  const [handle, setHandle] = useState(who);
  const [passphrase, setPassphrase] = useState("");
  const [here, setHere] = useState(false); // one has a handle there already
  const enter = useWork("sign_in", () => void queries.invalidateQueries());
  const elsewhere = useMutation({
    mutationFn: () => call("sign_in_elsewhere", { service: link }),
    onSuccess: (e) => enter.mutate({ service: link, handle: "", passphrase: "", secret: e.secret, every: e.every }),
  });
  const link = service.trim();
  const invited = /\/invited#\w+$/.test(link);
  const offer = useQuery({
    queryKey: ["desk", "invited", link],
    queryFn: () => call("invited", { link }),
    enabled: invited,
    retry: false,
    gcTime: 0,
  });
  const o = offer.data;
  const fresh = invited && !here;
  return (
    <section className="mx-auto max-w-md">
      <h2 className="text-2xl">{known ? "Sign in again" : "Welcome to Kettle Tarn"}</h2>
      <p className="mt-2 mb-5 text-peat">
        {known
          ? "Your sign-in on this machine has ended. Your files are as they are."
          : "Whoever leads your project knows the address, or has sent you the link of an invitation."}
      </p>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate({ service: link, handle: handle.trim(), passphrase, ...(fresh && { new: true }) });
        }}
      >
        <Field
          label="Address of the service, or the link of an invitation"
          className="mb-3 block"
          name="service"
          placeholder="https://tarn.example"
          required
          autoFocus={!known}
          value={service}
          onType={setService}
        />
        {invited && <Trouble error={offer.error} />}
        {o && (
          <p role="status" className={`mb-3 ${o.over ? "text-rust" : "text-ice"}`}>
            {o.over
              ? `${overWords[o.over]} Ask ${o.by} for another one.`
              : `${o.by} invites you to ${o.project}, as ${o.role}.${here ? "" : " Choose a handle and a passphrase."}`}
          </p>
        )}
        <Credentials
          handle={handle}
          onHandle={setHandle}
          passphrase={passphrase}
          onPassphrase={setPassphrase}
          focus={known ? "passphrase" : undefined}
          fresh={fresh}
        />
        <Button kind="act" type="submit" className="w-full justify-center py-2" disabled={enter.isPending || !!o?.over}>
          {invited ? "Join" : "Sign in"}
        </Button>
        {invited && (
          <p className="mt-3">
            <Button kind="quiet" className="-ml-2.5" onClick={() => setHere(!here)}>
              {here ? "I am new there" : "I have a handle there already"}
            </Button>
          </p>
        )}
        <p className="mt-3">
          <Button
            kind="quiet"
            className="-ml-2.5"
            disabled={!link || enter.isPending || elsewhere.isPending}
            onClick={() => elsewhere.mutate()}
          >
            With a passkey, or the sign-on of my house
          </Button>
        </p>
        {elsewhere.data && enter.isPending && (
          <p role="status" className="mt-2 text-peat">
            Go to{" "}
            <a href={`${elsewhere.data.address}?code=${elsewhere.data.code}`} target="_blank" rel="noreferrer">
              the page of the service
            </a>
            , sign in there, and say yes to the code <strong className="text-nowrap">{elsewhere.data.code}</strong>. This page goes on by
            itself then.
          </p>
        )}
        <div className="mt-4">
          <Trouble error={elsewhere.error} />
          <Trouble error={enter.error} />
        </div>
      </form>
    </section>
  );
}
