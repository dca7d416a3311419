import { useState } from "react";
import { Ask } from "../../parts/Ask";
import { Field } from "../../parts/Field";
import { Trouble } from "../../parts/Trouble";
import { baseName } from "../../parts/words";
import { useWork } from "./useWork";

interface For {
  workspace: string;
  path: string;
}

/** useAsking asks the holder of a lock to let go, in a dialog. */
export function useAsking() {
  const [of, setOf] = useState<For>();
  const [reason, setReason] = useState("");
  const ask = useWork("ask", () => setOf(undefined));
  return {
    open: (next: For) => {
      setReason("");
      ask.reset();
      setOf(next);
    },
    asked: ask.data,
    dialog: of && (
      <Ask
        open
        title={`Ask for ${baseName(of.path)}`}
        action="Ask"
        busy={ask.isPending}
        disabled={!reason.trim()}
        onAct={() => ask.mutate({ ...of, reason })}
        onClose={() => setOf(undefined)}
      >
        <p>Its holder is told, and answers. You wait in line from then on.</p>
        <Field label="Why you need it" value={reason} onType={setReason} />
        <Trouble error={ask.error} />
      </Ask>
    ),
  };
}
