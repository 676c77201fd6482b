import { AlertDialog } from "radix-ui";
import { type FormEvent, useState } from "react";
import { CallError } from "../api/client";
import { Refused } from "./Refused";

/** Gives a name that records have in common another one, and says before what follows. */
export function Rename(props: {
  what: string;
  name: string;
  follows: string;
  named: string[];
  rename: (name: string, anyway: boolean) => Promise<void>;
}) {
  const { what, name, named } = props;
  const [open, setOpen] = useState(false);
  const [to, setTo] = useState(name);
  const [anyway, setAnyway] = useState(false);
  const [error, setError] = useState<Error | null>(null);
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    setError(null);
    try {
      await props.rename(to.trim(), anyway);
      setOpen(false);
    } catch (refused) {
      setError(refused instanceof Error ? refused : new Error(String(refused)));
    }
  };
  const conflict = error instanceof CallError && error.status === 409;
  return (
    <AlertDialog.Root open={open} onOpenChange={setOpen}>
      <AlertDialog.Trigger className="cursor-pointer justify-self-start text-deep hover:underline">Rename</AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-30 bg-ink/40" />
        <AlertDialog.Content className="fixed top-1/4 left-1/2 z-40 w-[34rem] -translate-x-1/2 rounded-sm bg-paper p-6">
          <AlertDialog.Title className="font-serif text-xl">
            Rename the {what} {name}
          </AlertDialog.Title>
          <AlertDialog.Description asChild>
            <div className="my-3">
              <p>{props.follows}</p>
              {named.length > 0 && (
                <p className="mt-2 border-l-2 border-rust bg-tint px-3 py-2">
                  The active policy names it ({named.join("; ")}): these comparisons are then true of nobody, until you change the
                  policy.
                </p>
              )}
            </div>
          </AlertDialog.Description>
          <form onSubmit={(event) => void submit(event)}>
            <input
              aria-label="The new name"
              value={to}
              onChange={(event) => setTo(event.target.value)}
              className="w-full rounded-sm border border-soft bg-sheet px-3 py-1"
            />
            {(named.length > 0 || conflict) && (
              <label className="mt-3 block">
                <input type="checkbox" checked={anyway} onChange={(event) => setAnyway(event.target.checked)} className="mr-2" />
                do it anyway
              </label>
            )}
            <Refused error={error} />
            <p className="mt-4 flex justify-end gap-6">
              <AlertDialog.Cancel className="cursor-pointer text-deep hover:underline">Keep it</AlertDialog.Cancel>
              <button
                type="submit"
                disabled={!to.trim() || to.trim() === name}
                className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper disabled:opacity-50"
              >
                Rename it
              </button>
            </p>
          </form>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
