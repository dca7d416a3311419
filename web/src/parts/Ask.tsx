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
  /** What stands in place of Cancel while it is on its way, where it can be given up. */
  onStop?: (() => void) | undefined;
  onAct: () => void;
  onClose: () => void;
}

/** Ask is the dialog before something is done: what it does, and how to come back. Enter in a field does it; it never outgrows the window. */
export function Ask({ open, title, children, action, busy = false, disabled = false, onStop, onAct, onClose }: Props) {
  return (
    <AlertDialog.Root open={open} onOpenChange={(o) => !o && !busy && onClose()}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-30 bg-deep/75" />
        <AlertDialog.Content className="fixed top-1/2 left-1/2 z-30 max-h-[calc(100dvh-2rem)] w-[min(34rem,calc(100vw-2rem))] -translate-1/2 rounded-lg border border-line bg-bank shadow-2xl">
          <form
            className="flex max-h-[calc(100dvh-2rem)] flex-col p-5"
            onSubmit={(e) => {
              e.preventDefault();
              if (!busy && !disabled) onAct();
            }}
          >
            <AlertDialog.Title className="text-lg font-semibold wrap-anywhere">{title}</AlertDialog.Title>
            <AlertDialog.Description asChild>
              <div className="mt-2 min-h-0 flex-1 space-y-3 overflow-y-auto p-0.5 text-peat">{children}</div>
            </AlertDialog.Description>
            <div className="mt-4 flex shrink-0 justify-end gap-2">
              {busy && onStop ? (
                <Button onClick={onStop}>Stop</Button>
              ) : (
                <AlertDialog.Cancel asChild>
                  <Button disabled={busy}>Cancel</Button>
                </AlertDialog.Cancel>
              )}
              <Button kind="act" type="submit" disabled={busy || disabled}>
                {action}
              </Button>
            </div>
          </form>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

export const fieldClass = "w-full rounded-md border border-edge bg-deep px-2.5 py-1.5 text-ink placeholder:text-peat focus:border-copper";
