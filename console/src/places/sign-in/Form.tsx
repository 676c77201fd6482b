import type { FormEvent, ReactNode } from "react";
import { useState } from "react";

/** A form of name and password that tells what went wrong. */
export function Form(props: {
  title: string;
  lead: string;
  action: string;
  passwordKind: "current-password" | "new-password";
  wantsCode?: boolean;
  submit: (name: string, password: string, code: string) => Promise<void>;
  children?: ReactNode;
}) {
  const [error, setError] = useState<string>();
  const [busy, setBusy] = useState(false);
  const send = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    setBusy(true);
    setError(undefined);
    try {
      await props.submit(String(form.get("name")), String(form.get("password")), String(form.get("code") ?? ""));
    } catch (failure) {
      setError(failure instanceof Error ? failure.message : String(failure));
    } finally {
      setBusy(false);
    }
  };
  return (
    <main className="mx-auto grid min-h-screen max-w-sm content-center px-4 pb-24">
      <title>{`${props.title} · Regnant`}</title>
      <div className="mb-6 font-serif text-2xl font-semibold text-deep">Regnant</div>
      <h1 className="font-serif text-xl">{props.title}</h1>
      <p className="mb-6 text-soft">{props.lead}</p>
      <form onSubmit={send} className="space-y-4">
        <Field label="Name" name="name" type="text" autoComplete="username" />
        <Field label="Password" name="password" type="password" autoComplete={props.passwordKind} />
        {props.wantsCode && (
          <Field label="Code of the second factor, or a recovery code" name="code" type="text" autoComplete="one-time-code" />
        )}
        {error && (
          <p role="alert" className="border-l-2 border-rust pl-3 text-rust">
            {error}
          </p>
        )}
        <button
          type="submit"
          disabled={busy}
          className="w-full cursor-pointer rounded-sm bg-deep px-4 py-2 font-semibold text-paper disabled:opacity-60"
        >
          {props.action}
        </button>
      </form>
      {props.children}
    </main>
  );
}

function Field(props: { label: string; name: string; type: string; autoComplete: string }) {
  return (
    <label className="block">
      <span className="mb-1 block text-sm text-soft">{props.label}</span>
      <input
        required
        name={props.name}
        type={props.type}
        autoComplete={props.autoComplete}
        className="w-full rounded-sm border border-soft bg-sheet px-3 py-2"
      />
    </label>
  );
}
