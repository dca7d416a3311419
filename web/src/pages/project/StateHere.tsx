import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { useLocation, useNavigate, useParams, useSearchParams } from "react-router";
import { firstBranch } from "../../api/words.gen";
import { useBranches } from "../branches/useBranches";

/** StateHere says which state the page is about, the first branch where nothing else is said, and leads to the assets of another branch. */
export function StateHere({ project }: { project: string }) {
  const [params] = useSearchParams();
  const { "*": rest = "" } = useParams();
  const { pathname } = useLocation();
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const branches = useBranches(project, open);
  const onBranch = pathname.startsWith(`/p/${project}/branches/`) ? rest : "";
  const state = params.get("at") || params.get("into") || onBranch || firstBranch;
  return (
    <DropdownMenu.Root open={open} onOpenChange={setOpen}>
      <DropdownMenu.Trigger
        aria-label={`On ${state}; look at another branch`}
        className={`max-w-44 truncate rounded-md border px-2 py-0.5 text-sm hover:border-copper ${state === firstBranch ? "border-line text-peat" : "border-ice bg-ice-wash text-ink"}`}
      >
        {state}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="start"
          sideOffset={6}
          className="z-20 max-h-96 min-w-44 overflow-y-auto rounded-lg border border-line bg-bank p-1 text-sm shadow-xl"
        >
          <DropdownMenu.Label className="px-3 py-1 text-xs text-peat">The assets as they are on</DropdownMenu.Label>
          {(branches.data?.branches ?? [])
            .filter((b) => b.state !== "closed")
            .map((b) => (
              <DropdownMenu.Item
                key={b.name}
                className="cursor-default rounded-md px-3 py-1.5 outline-none data-highlighted:bg-stone"
                onSelect={() => void navigate(`/p/${project}/assets${b.from ? `?${new URLSearchParams({ at: b.name })}` : ""}`)}
              >
                {b.name}
              </DropdownMenu.Item>
            ))}
          <DropdownMenu.Item
            className="cursor-default rounded-md px-3 py-1.5 text-peat outline-none data-highlighted:bg-stone"
            onSelect={() => void navigate(`/p/${project}/branches`)}
          >
            All branches
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
