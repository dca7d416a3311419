import { useState } from "react";
import { Ask, fieldClass } from "../../parts/Ask";
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
        <label className="block">
          <span className="mb-1 block text-ink">Why you need it</span>
          <input className={fieldClass} value={reason} onChange={(e) => setReason(e.target.value)} />
        </label>
        <Trouble error={ask.error} />
      </Ask>
    ),
  };
}
