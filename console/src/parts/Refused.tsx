import { CallError } from "../api/client";

/** Why a change was not made; what was typed stays where it is. */
export function Refused({ error }: { error: Error | null }) {
  if (!error) return null;
  const late = error instanceof CallError && error.status === 412;
  return (
    <p role="alert" className="mt-4 border-l-2 border-rust bg-tint px-3 py-2">
      {error.message}
      {late && " What you typed is still here: copy what you need, cancel, and begin again."}
    </p>
  );
}
