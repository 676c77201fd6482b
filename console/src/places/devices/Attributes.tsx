import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api, dataOf, over } from "../../api/client";
import { Confirm } from "../../parts/Confirm";
import { ChoiceField, TextField } from "../../parts/Field";
import { Notice } from "../../parts/Notice";
import { Refused } from "../../parts/Refused";
import { useRole } from "../../queries";
import { type Attribute, declared, TYPES } from "./attributes";

/** What devices, people and machines have beside what every one has: each is a fact of policies. */
export function Attributes() {
  const known = useQuery(declared);
  const role = useRole();
  if (known.error) return <Notice title="Attributes cannot be shown" text={known.error.message} />;
  if (!known.data) return null;
  return (
    <div className="max-w-4xl">
      <title>Attributes · Regnant</title>
      <p className="text-soft">
        <Link to="/devices" className="text-deep underline">
          Devices
        </Link>{" "}
        · what you keep of them
      </p>
      <h1 className="mt-2 mb-2 font-serif text-2xl">Attributes</h1>
      <p className="mb-4">
        Each is declared once, with a type, and is a fact of policies from then on. One of devices is a field of every device; one
        of people or machines, with user. or machine. before its name, is told by stores outside.
      </p>
      <ul aria-label="Attributes" className="border-t border-line">
        {known.data.attributes.map((attribute) => (
          <li
            key={attribute.name}
            className="grid grid-cols-[16rem_6rem_1fr_auto] items-baseline gap-x-4 border-b border-line py-1.5"
          >
            <code className="font-semibold">{attribute.fact}</code>
            <span>{attribute.type}</span>
            <span className="text-soft">{attribute.meaning}</span>
            {role === "engineer" && <Remove attribute={attribute} />}
          </li>
        ))}
      </ul>
      {known.data.attributes.length === 0 && <p className="py-2 text-soft">None is declared yet.</p>}
      {role === "engineer" && <Declare known={known.data.attributes} />}
    </div>
  );
}

function Remove({ attribute }: { attribute: Attribute }) {
  const queries = useQueryClient();
  const removed = useMutation({
    mutationFn: async () => {
      await api.DELETE("/api/v1/attributes/{name}", {
        params: { path: { name: attribute.name }, header: over(attribute) },
      });
    },
    onSuccess: () => void queries.invalidateQueries(),
  });
  return (
    <Confirm
      action="Remove"
      title={`Remove ${attribute.fact}?`}
      keep="Keep it"
      confirm="Remove it"
      error={removed.error}
      busy={removed.isPending}
      act={() => removed.mutate()}
    >
      It is no fact any more. Where the active policy names it, or a device has it, it stays.
    </Confirm>
  );
}

function Declare({ known }: { known: Attribute[] }) {
  const [name, setName] = useState("");
  const [type, setType] = useState<string>("text");
  const [meaning, setMeaning] = useState("");
  const queries = useQueryClient();
  const made = useMutation({
    mutationFn: async () => {
      const params = { header: over(known.find((attribute) => attribute.name === name.trim())) };
      const body = { name: name.trim(), type, meaning: meaning.trim() };
      return dataOf(await api.POST("/api/v1/attributes", { params, body }));
    },
    onSuccess: () => {
      setName("");
      setMeaning("");
      void queries.invalidateQueries();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    made.mutate();
  };
  return (
    <form aria-label="An attribute" onSubmit={submit} className="mt-6 grid max-w-2xl gap-4">
      <TextField
        label="Name"
        name="name"
        value={name}
        change={setName}
        help="Small letters, digits and hyphens: asset-class for devices, user.department for people, machine.compliant for machines."
      />
      <ChoiceField
        label="Type"
        name="type"
        value={type}
        choices={TYPES}
        change={setType}
        help="What its values are; it stays for as long as devices have it or stores tell it."
      />
      <TextField label="Meaning" name="meaning" value={meaning} change={setMeaning} help="For whoever writes rules." />
      <Refused error={made.error} />
      <p className="pl-40">
        <button
          type="submit"
          disabled={!name.trim() || made.isPending}
          className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper disabled:opacity-50"
        >
          Declare it
        </button>
      </p>
    </form>
  );
}
