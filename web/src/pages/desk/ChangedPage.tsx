import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { call, unsentFile, useDesk } from "../../api/desk";
import { Page } from "../../parts/Shore";
import { useTitle } from "../../parts/title";
import { Trouble } from "../../parts/Trouble";
import { baseName } from "../../parts/words";
import { Difference } from "../compare/Difference";
import type { Comparison } from "../compare/useCompare";
import { DeskShore } from "./DeskShore";

/** What one changed and has not sent, beside the version that it was made from. */
export function ChangedPage() {
  const [params] = useSearchParams();
  const [workspace, path] = [params.get("workspace") ?? "", params.get("path") ?? ""];
  const w = useDesk().workspaces.find((x) => x.workspace === workspace);
  const changed = w?.assets.find((a) => a.path === path)?.changed ?? "";
  const found = useQuery({
    queryKey: ["desk", "compare", workspace, path, changed],
    queryFn: () => call("compare", { workspace, path }),
    enabled: !!w,
    placeholderData: (before) => before,
  });
  useTitle(`${baseName(path)}, as you have it`);
  return (
    <>
      <DeskShore />
      <Page>
        <p className="text-peat">
          <Link to="/desk">My work</Link>
        </p>
        <h1 className="mb-4 break-all">{baseName(path)}, as you have it</h1>
        <Trouble error={found.error} />
        {found.isPending && <p className="text-peat">Looking at both …</p>}
        {found.data && w && (
          <>
            <p className="mb-4 text-peat">Before: version {found.data.version}. After: the file on this machine, not sent yet.</p>
            <Difference
              key={changed}
              here={{ key: w.project }}
              sides={{ path: found.data.path, a: found.data.version, with: path, b: 0 }}
              comparison={found.data.comparison as Comparison}
              addresses={{
                before: (name) => unsentFile(workspace, path, name, "before"),
                after: (name) => unsentFile(workspace, path, name, "after"),
                both: (name) => unsentFile(workspace, path, name, ""),
              }}
            />
          </>
        )}
      </Page>
    </>
  );
}
