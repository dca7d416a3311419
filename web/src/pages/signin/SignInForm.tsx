import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../../api/client";
import { fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";

/** SignInForm signs somebody in; known is who it was before. */
export function SignInForm({ known = "", onIn }: { known?: string; onIn: (handle: string) => void }) {
  const [handle, setHandle] = useState(known);
  const [passphrase, setPassphrase] = useState("");
  const enter = useMutation({
    mutationFn: () => ask(api.POST("/sign-in", { body: { handle: handle.trim(), passphrase, from: "the console", console: true } })),
    onSuccess: () => onIn(handle.trim()),
  });
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        enter.mutate();
      }}
    >
      <label className="mb-3 block">
        <span className="mb-1 block font-medium">Handle</span>
        <input
          className={fieldClass}
          name="handle"
          autoComplete="username"
          autoCapitalize="none"
          autoFocus={!known}
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
          autoFocus={!!known}
          required
          value={passphrase}
          onChange={(e) => setPassphrase(e.target.value)}
        />
      </label>
      <Button kind="act" type="submit" className="mb-4 w-full justify-center py-2" disabled={enter.isPending}>
        Sign in
      </Button>
      <Trouble error={enter.error} />
    </form>
  );
}
