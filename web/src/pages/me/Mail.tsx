import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schemas } from "../../api/client";
import { Button } from "../../parts/Button";
import { Field } from "../../parts/Field";
import { MailCode } from "../../parts/MailCode";
import { Trouble } from "../../parts/Trouble";

/** Mail is where letters go to, once one has shown that the address is one's own; of what they are is with each project's news. */
export function Mail() {
  const found = useQuery({ queryKey: ["me", "news"], queryFn: () => ask(api.GET("/me/news")) });
  return (
    <section aria-labelledby="mail">
      <h2 id="mail">Your mail address</h2>
      <Trouble error={found.error} />
      {found.data && <Address key={found.data.mail + found.data.mail_wanted} settings={found.data} />}
      {found.data?.mail_wanted && <MailCode address={found.data.mail_wanted} />}
    </section>
  );
}

function Address({ settings }: { settings: Schemas["NewsSettings"] }) {
  const queries = useQueryClient();
  const known = settings.mail_wanted || settings.mail;
  const [mail, setMail] = useState(known);
  const keep = useMutation({
    mutationFn: () => ask(api.PUT("/me/news", { body: { ...settings, mail: mail.trim() } })),
    onSuccess: (answer) => queries.setQueryData(["me", "news"], answer),
  });
  return (
    <form
      className="mt-3 max-w-sm"
      onSubmit={(e) => {
        e.preventDefault();
        keep.mutate();
      }}
    >
      <div className="flex items-end gap-3">
        <Field
          label="Where letters go to, and a link if you forget your passphrase"
          quiet
          name="mail"
          type="email"
          autoComplete="email"
          placeholder="none: no mail"
          className="flex-1"
          value={mail}
          onType={setMail}
        />
        <Button type="submit" disabled={keep.isPending || mail.trim() === known}>
          Keep it
        </Button>
      </div>
      {!settings.mail_works && <p className="mt-1 text-rust">This service sends no mail: whoever runs it has not said by which server.</p>}
      <p className="mt-2 text-peat">Of what you get letters is under News in each project.</p>
      <Trouble error={keep.error} />
    </form>
  );
}
