import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, CallError, dataOf, over } from "../../api/client";
import type { components } from "../../api/schema";
import { TextField } from "../../parts/Field";
import { Refused } from "../../parts/Refused";
import { PemField } from "./PemField";

/** Says whose certificates are believed, in the place of what a trust of that name said. */
export function NewTrust({ known, done }: { known: components["schemas"]["TrustReport"][]; done: () => void }) {
  const [name, setName] = useState("");
  const [pem, setPem] = useState("");
  const [crlUrl, setCrlUrl] = useState("");
  const [ocspUrl, setOcspUrl] = useState("");
  const [secrets, setSecrets] = useState<Record<string, string>>({});
  const queries = useQueryClient();
  const kept = useMutation({
    mutationFn: async () =>
      dataOf(
        await api.POST("/api/v1/trusts", {
          params: { header: over(known.find((trust) => trust.name === name.trim())) },
          body: {
            name: name.trim(),
            authorities: pem,
            crls: pem,
            crl_url: crlUrl.trim() || null,
            ocsp_url: ocspUrl.trim() || null,
            secrets,
          },
        }),
      ),
    onSuccess: (answer) => {
      void queries.invalidateQueries();
      if (answer.left_out.length === 0) done();
    },
  });
  const wanted = kept.error instanceof CallError ? kept.error.wantsSecrets : [];
  const submit = (event: FormEvent) => {
    event.preventDefault();
    kept.mutate();
  };
  return (
    <form aria-label="A trust" onSubmit={submit} className="mb-6 space-y-3 border border-line bg-sheet p-4">
      <TextField
        label="Name"
        name="name"
        value={name}
        change={setName}
        help="As policies refer to it. A trust of this name is replaced."
      />
      <PemField
        label="Authorities"
        help="Their certificates and their revocation lists, in PEM. Nobody but they can vouch for a client."
        value={pem}
        change={setPem}
      />
      <TextField
        label="Newer lists"
        name="crl"
        value={crlUrl}
        change={setCrlUrl}
        help="Where a newer revocation list is fetched, now and every hour; http://, for the list is signed itself. Empty: nowhere."
      />
      <TextField
        label="Responder"
        name="ocsp"
        value={ocspUrl}
        change={setOcspUrl}
        help="Who is asked about revocation in place of those that certificates name; http://. Empty: those."
      />
      <Refused error={kept.error} />
      {wanted.map((store) => (
        <TextField
          key={store}
          label={`Secret of ${store}`}
          name={`secret-${store}`}
          type="password"
          value={secrets[store] ?? ""}
          change={(secret) => setSecrets({ ...secrets, [store]: secret })}
          help="As it is kept: it goes to whoever the new authority vouches for."
        />
      ))}
      {kept.data && kept.data.left_out.length > 0 && (
        <p role="status" className="border-l-2 border-deep bg-tint px-3 py-2">
          It is kept, without what is no authority&rsquo;s certificate: {kept.data.left_out.join("; ")}.
        </p>
      )}
      <p className="flex items-baseline gap-6 pl-40">
        <button
          type="submit"
          disabled={!name.trim() || !pem.trim() || kept.isPending}
          className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper disabled:opacity-50"
        >
          Keep it
        </button>
        <button type="button" onClick={done} className="cursor-pointer text-deep hover:underline">
          Close
        </button>
      </p>
    </form>
  );
}
