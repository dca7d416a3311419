import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, ask } from "../../api/client";
import { fieldClass } from "../../parts/Ask";
import { Button } from "../../parts/Button";
import { Trouble } from "../../parts/Trouble";
import type { Here } from "../project/ProjectFrame";

const kindWords: Record<string, string> = { asset: "It is an asset", code: "It is left to the main history", ignored: "It is left out" };
const lockWords: Record<string, string> = {
  required: "Its lock is needed to send it",
  "on-edit": "Its lock is needed, and taken on the first edit where a folder is watched",
  free: "It may be sent without a lock",
};

/** TestPath says what the rules make of a path, which need not exist, and which line decides. The path is part of the address. */
export function TestPath({ here }: { here: Here }) {
  const [params, setParams] = useSearchParams();
  const path = params.get("path") ?? "";
  const [typed, setTyped] = useState(path);
  const tested = useQuery({
    queryKey: ["project", here.key, "rules", "test", path],
    enabled: path !== "",
    queryFn: () => ask(api.GET("/projects/{project}/rules/test", { params: { path: { project: here.key }, query: { path } } })),
  });
  const t = tested.data;
  return (
    <section aria-labelledby="test">
      <h2 id="test" className="mb-2">
        Why is a path what it is?
      </h2>
      <form
        className="flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          setParams(typed.trim() ? { path: typed.trim() } : {}, { replace: true });
        }}
      >
        <input
          className={fieldClass}
          aria-label="Path"
          placeholder="textures/cache/rust.png"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
          maxLength={1024}
        />
        <Button type="submit">Test</Button>
      </form>
      {path && <Trouble error={tested.error} />}
      {t && (
        <div role="status" className="mt-3 space-y-1">
          <p className="font-medium break-all">{t.path}</p>
          <p>
            {kindWords[t.kind]}. <span className="text-peat">Decided by {t.kind_by}.</span>
          </p>
          {t.kind === "asset" && (
            <p>
              {lockWords[t.lock]}. <span className="text-peat">Decided by {t.lock_by}.</span>
            </p>
          )}
          {t.asset && t.kind !== "asset" && (
            <p>It is an asset of the project already, and stays one until somebody hands off its removal.</p>
          )}
        </div>
      )}
    </section>
  );
}
