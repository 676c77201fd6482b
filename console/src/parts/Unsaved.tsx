import { useBlocker } from "@tanstack/react-router";
import { AlertDialog } from "radix-ui";
import { unsaved } from "./unsaved";

/** Asks whoever leaves a page on which they typed something that is not sent. */
export function Unsaved() {
  const { status, proceed, reset } = useBlocker({
    // What only changes what a page shows leaves its forms as they are.
    shouldBlockFn: ({ current, next }) => unsaved.size > 0 && current.pathname !== next.pathname,
    enableBeforeUnload: () => unsaved.size > 0,
    withResolver: true,
  });
  return (
    <AlertDialog.Root open={status === "blocked"}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-30 bg-ink/40" />
        <AlertDialog.Content className="fixed top-1/4 left-1/2 z-40 w-[32rem] -translate-x-1/2 rounded-sm bg-paper p-6">
          <AlertDialog.Title className="font-serif text-xl">Leave what you typed?</AlertDialog.Title>
          <AlertDialog.Description className="my-3">
            The form on this page was not sent: what is in it would be lost.
          </AlertDialog.Description>
          <p className="mt-4 flex justify-end gap-6">
            <AlertDialog.Cancel onClick={reset} className="cursor-pointer text-deep hover:underline">
              Stay here
            </AlertDialog.Cancel>
            <AlertDialog.Action onClick={proceed} className="cursor-pointer rounded-sm bg-rust px-4 py-1 text-paper">
              Leave it
            </AlertDialog.Action>
          </p>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
