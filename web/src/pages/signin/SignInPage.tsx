import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, ask } from "../../api/client";
import { fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";

export function SignInPage() {
  const [handle, setHandle] = useState("");
  const [passphrase, setPassphrase] = useState("");
  const [params] = useSearchParams();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const enter = useMutation({
    mutationFn: () => ask(api.POST("/sign-in", { body: { handle: handle.trim(), passphrase, from: "the console", console: true } })),
    onSuccess: () => {
      queries.clear();
      const to = params.get("to") ?? "/";
      // Only a page of this console: a backslash, or anything that a browser takes out of an address, may lead elsewhere.
      void navigate(/^\/(?![/\\])[^\\\s]*$/.test(to) && new URL(to, location.origin).origin === location.origin ? to : "/", { replace: true });
    },
  });
  return (
    <main className="grid min-h-screen place-items-center px-4">
      <form
        className="w-full max-w-sm"
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
        }}
      >
        <svg viewBox="0 0 400 120" className="mb-6 w-full" aria-hidden>
          <path d="M0 78 72 20l38 34 46-50 62 58 40-28 142 44z" className="fill-stone" />
          <path d="M0 78h400v42H0z" className="fill-ice-wash" />
          <path d="M40 92q20-8 40 0t40 0M210 90q20-8 40 0t40 0" className="fill-none stroke-ice" strokeWidth="1.500" />
          <path d="M120 106q20-8 40 0t40 0" className="fill-none stroke-copper" strokeWidth="1.500" />
        </svg>
        <h1>Kettle Tarn</h1>
        <p className="mt-1 mb-6 text-peat">Sign in to see who is on what, and what came in.</p>
        <label className="mb-3 block">
          <span className="mb-1 block font-medium">Handle</span>
          <input className={fieldClass} name="handle" autoComplete="username" autoCapitalize="none" autoFocus required value={handle} onChange={(e) => setHandle(e.target.value)} />
        </label>
        <label className="mb-5 block">
          <span className="mb-1 block font-medium">Passphrase</span>
          <input className={fieldClass} name="passphrase" type="password" autoComplete="current-password" required value={passphrase} onChange={(e) => setPassphrase(e.target.value)} />
        </label>
        <Button kind="act" type="submit" className="mb-4 w-full justify-center py-2" disabled={enter.isPending}>
          Sign in
        </Button>
        <Trouble error={enter.error} />
      </form>
    </main>
  );
}
