import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, dataOf } from "../../api/client";
import { BOX, Check, Field, TextField } from "../../parts/Field";
import { Refused } from "../../parts/Refused";
import { moment } from "../../parts/time";
import { useRole } from "../../queries";

/** The sealing key by its id, how to set another, and a backup to be taken. */
export function Keys() {
  const role = useRole();
  const known = useQuery({ queryKey: ["keys"], queryFn: async () => dataOf(await api.GET("/api/v1/keys")) });
  if (!known.data) return <Refused error={known.error} />;
  const { sealing, backup, backup_by } = known.data;
  return (
    <section className="mb-8">
      <h2 className="mb-2 text-lg font-semibold">Keys and backup</h2>
      <p className="border-t border-line py-1.5">
        Secrets are sealed under the key <code className="bg-tint px-1">{sealing}</code>. Another is set while the service does
        not run: <code className="bg-tint px-1">regnant key rotate --data DIR</code>
      </p>
      <p className="border-t border-line py-1.5">
        {backup ? `The last backup was taken at ${moment(backup)} by ${backup_by}.` : "No backup was ever taken."}
      </p>
      {role === "engineer" && <Backup />}
    </section>
  );
}

function Backup() {
  const [passphrase, setPassphrase] = useState("");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const [withJournal, setWithJournal] = useState(false);
  const queries = useQueryClient();
  const taken = useMutation({
    mutationFn: async () => {
      const answer = await fetch("/api/v1/backup", {
        method: "POST",
        headers: { "content-type": "application/json" },
        body: JSON.stringify({
          with_journal: withJournal,
          ...(passphrase ? { passphrase, password, ...(code ? { code } : {}) } : {}),
        }),
      });
      if (!answer.ok) {
        const body: unknown = await answer.json().catch(() => ({}));
        throw new Error(String((body as { error?: string }).error ?? `The service answered ${answer.status}.`));
      }
      const link = document.createElement("a");
      link.href = URL.createObjectURL(await answer.blob());
      link.download = `regnant-${new Date().toISOString().slice(0, 10)}.backup`;
      link.click();
      URL.revokeObjectURL(link.href);
    },
    onSuccess: () => {
      setPassphrase("");
      setPassword("");
      setCode("");
      void queries.invalidateQueries({ queryKey: ["keys"] });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    taken.mutate();
  };
  return (
    <form aria-label="A backup" onSubmit={submit} className="mt-3 grid max-w-2xl gap-3">
      <Field
        label="Passphrase"
        help="At least 12 characters: the sealing key is in it then, and all of it is encrypted. Left empty, the key is not in it."
      >
        <input
          name="passphrase"
          type="password"
          autoComplete="new-password"
          value={passphrase}
          onChange={(event) => setPassphrase(event.target.value)}
          className={BOX}
        />
      </Field>
      {passphrase && (
        <>
          <TextField
            label="Your password"
            help="Whoever finds a browser open does not know it."
            name="password"
            type="password"
            value={password}
            change={setPassword}
          />
          <TextField
            label="Code"
            help="Of your second factor, or a recovery code; empty where you have none."
            name="code"
            value={code}
            change={setCode}
          />
        </>
      )}
      <Check label="with journal and accounting" help="They may be large." checked={withJournal} change={setWithJournal} />
      <Refused error={taken.error} />
      <p className="pl-40">
        <button
          type="submit"
          disabled={taken.isPending}
          className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper disabled:opacity-50"
        >
          {taken.isPending ? "Taking it …" : "Take a backup"}
        </button>
      </p>
    </form>
  );
}
