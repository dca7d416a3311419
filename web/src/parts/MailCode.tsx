import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../api/client";
import { fieldClass } from "./Ask";
import { Button } from "./Button";
import { Trouble } from "./Trouble";

/** MailCode asks for what a letter said: no mail goes to an address before it is known to be one's own. */
export function MailCode({ address }: { address: string }) {
  const queries = useQueryClient();
  const [code, setCode] = useState("");
  const show = useMutation({
    mutationFn: () => ask(api.PUT("/me/news/address", { body: { code } })),
    onSuccess: (answer) => queries.setQueryData(["me", "news"], answer),
  });
  return (
    <form
      className="mt-5 max-w-sm border-l-3 border-copper pl-4"
      onSubmit={(e) => {
        e.preventDefault();
        show.mutate();
      }}
    >
      <label className="block">
        <span className="mb-1 block">A letter with a code went to {address}. Mail goes there once you have entered it.</span>
        <input className={fieldClass} name="code" autoComplete="one-time-code" value={code} onChange={(e) => setCode(e.target.value)} />
      </label>
      <Button className="mt-2" type="submit" disabled={!code.trim() || show.isPending}>
        Enter it
      </Button>
      <Trouble error={show.error} />
    </form>
  );
}
