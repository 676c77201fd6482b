import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, dataOf, over } from "../../api/client";
import type { components } from "../../api/schema";
import { BOX, Field, TextField } from "../../parts/Field";
import { Refused } from "../../parts/Refused";
import { PemField } from "./PemField";

/** Brings a certificate with its key, or makes a request for an authority to sign. */
export function NewCertificate({ known, done }: { known: components["schemas"]["CertificateReport"][]; done: () => void }) {
  const [name, setName] = useState("");
  const [pem, setPem] = useState("");
  const queries = useQueryClient();
  const imported = useMutation({
    mutationFn: async () => {
      const params = { header: over(known.find((certificate) => certificate.name === name.trim())) };
      await api.POST("/api/v1/certificates", { params, body: { name: name.trim(), pem } });
    },
    onSuccess: () => {
      void queries.invalidateQueries();
      done();
    },
  });
  const asked = useMutation({
    mutationFn: async () => dataOf(await api.POST("/api/v1/certificates/request", { body: { name: name.trim() } })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["certificates"] }),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    imported.mutate();
  };
  return (
    <form aria-label="A certificate" onSubmit={submit} className="mb-6 space-y-3 border border-line bg-sheet p-4">
      <TextField
        label="Name"
        name="name"
        value={name}
        change={setName}
        help="As policies refer to it: the server's name, which supplicants check, such as radius.tarnmouth.example."
      />
      <PemField
        label="Certificate"
        help="Its own, those above it, and its private key, in PEM. Where a request of this name waits, the key is here already."
        value={pem}
        change={setPem}
      />
      <Refused error={imported.error ?? asked.error} />
      {asked.data && (
        <Field
          label="Request"
          help="Have an authority sign it, then bring here what comes back, under the same name. The key stays in the service."
        >
          <textarea readOnly rows={8} value={asked.data.pem} className={`${BOX} font-mono text-xs select-all`} />
        </Field>
      )}
      <p className="flex items-baseline gap-6 pl-40">
        <button
          type="submit"
          disabled={!name.trim() || !pem.trim() || imported.isPending}
          className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper disabled:opacity-50"
        >
          Bring it
        </button>
        <button
          type="button"
          disabled={!name.trim() || asked.isPending}
          onClick={() => asked.mutate()}
          className="cursor-pointer text-deep hover:underline disabled:text-soft"
        >
          Make a request to be signed
        </button>
        <button type="button" onClick={done} className="cursor-pointer text-deep hover:underline">
          Close
        </button>
      </p>
    </form>
  );
}
