import { AlertDialog } from "radix-ui";
import type { ReactNode } from "react";
import { Button } from "./Button";

interface Props {
  open: boolean;
  title: string;
  children: ReactNode;
  action: string;
  busy?: boolean;
  disabled?: boolean;
  onAct: () => void;
  onClose: () => void;
}

/** Ask is the dialog before something is done: what it does, and how to come back. */
export function Ask({ open, title, children, action, busy = false, disabled = false, onAct, onClose }: Props) {
  return (
    <AlertDialog.Root open={open} onOpenChange={(o) => !o && !busy && onClose()}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 bg-deep/75" />
        <AlertDialog.Content className="fixed top-[18vh] left-1/2 w-[min(34rem,calc(100vw-2rem))] -translate-x-1/2 rounded-lg border border-line bg-bank p-5 shadow-2xl">
          <AlertDialog.Title className="text-lg font-semibold">{title}</AlertDialog.Title>
          <AlertDialog.Description asChild>
            <div className="mt-2 space-y-3 text-peat">{children}</div>
          </AlertDialog.Description>
          <form
            className="mt-5 flex justify-end gap-2"
            onSubmit={(e) => {
              e.preventDefault();
              onAct();
            }}
          >
            <AlertDialog.Cancel asChild>
              <Button disabled={busy}>Cancel</Button>
            </AlertDialog.Cancel>
            <Button kind="act" type="submit" disabled={busy || disabled}>
              {action}
            </Button>
          </form>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

export const fieldClass = "w-full rounded-md border border-line bg-deep px-2.5 py-1.5 text-ink placeholder:text-peat focus:border-copper";
