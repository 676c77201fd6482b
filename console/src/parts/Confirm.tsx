import { AlertDialog } from "radix-ui";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { Refused } from "./Refused";

/** A button that asks before it does something that cannot be taken back. */
export function Confirm(props: {
  action: string;
  title: string;
  keep: string;
  confirm: string;
  error: Error | null;
  busy: boolean;
  forbidden?: boolean;
  act: () => void;
  children: ReactNode;
}) {
  const [open, setOpen] = useState(false);
  const { busy, error } = props;
  const wasBusy = useRef(false);
  // Once it is done the same button must not do it again: a page that stays may mean another thing by it.
  useEffect(() => {
    if (wasBusy.current && !busy && !error) setOpen(false);
    wasBusy.current = busy;
  }, [busy, error]);
  return (
    <AlertDialog.Root open={open} onOpenChange={setOpen}>
      <AlertDialog.Trigger className="cursor-pointer justify-self-start text-rust hover:underline">
        {props.action}
      </AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-30 bg-ink/40" />
        <AlertDialog.Content className="fixed top-1/4 left-1/2 z-40 w-[32rem] -translate-x-1/2 rounded-sm bg-paper p-6">
          <AlertDialog.Title className="font-serif text-xl">{props.title}</AlertDialog.Title>
          <AlertDialog.Description asChild>
            <div className="my-3">{props.children}</div>
          </AlertDialog.Description>
          <Refused error={props.error} />
          <p className="mt-4 flex justify-end gap-6">
            <AlertDialog.Cancel className="cursor-pointer text-deep hover:underline">{props.keep}</AlertDialog.Cancel>
            <button
              type="button"
              disabled={props.busy || props.forbidden}
              onClick={props.act}
              className="cursor-pointer rounded-sm bg-rust px-4 py-1 text-paper disabled:opacity-50"
            >
              {props.confirm}
            </button>
          </p>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
