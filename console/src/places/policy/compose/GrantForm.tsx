import { useEffect, useState } from "react";
import { Field, TextField } from "../../../parts/Field";
import type { Draft } from "../draft/draft";
import type { Composed } from "./ComposePage";
import { useOffers } from "./offers";
import { grantText, type Line } from "./writ";

const BOX = "rounded-sm border border-soft bg-sheet px-2 py-0.5";

/** A grant from choices: statements with their values. */
export function GrantForm({ draft, change }: { draft: Draft; change: (composed: Composed) => void }) {
  const [name, setName] = useState("");
  const [lines, setLines] = useState<(Line & { id: number })[]>([{ id: 0, keyword: "vlan", value: "" }]);
  const statements = useOffers(draft, "grant x { ");
  const acls = useOffers(draft, "grant x { acl ");
  const written = lines.filter((line) => line.value.trim() !== "");
  const text = grantText(name, written);
  const missing = !/^\p{L}[\p{L}\p{N}_-]*$/u.test(name)
    ? "It needs a name of letters, digits, - and _."
    : written.length === 0
      ? "It needs what it gives."
      : "";
  useEffect(() => {
    change({ act: { do: "put", text }, text, anchor: `grant ${name}`, missing });
  }, [text, name, missing, change]);
  const put = (id: number, some: Partial<Line>) =>
    setLines((list) => list.map((one) => (one.id === id ? { ...one, ...some } : one)));
  const known = statements.data?.filter((offer) => offer.kind === "word" && offer.text !== "send") ?? [];
  return (
    <form className="grid content-start gap-4" onSubmit={(event) => event.preventDefault()}>
      <TextField label="Name" name="name" help="What rules give it by." value={name} change={setName} />
      <Field label="Gives" help="Neutral statements; each NAS is told in its own dialect.">
        <span className="grid gap-2">
          {lines.map(({ id, keyword, value }) => (
            <span key={id} className="flex items-center gap-2">
              <select
                aria-label="Statement"
                className={`${BOX} w-40`}
                value={keyword}
                onChange={(event) => put(id, { keyword: event.target.value })}
              >
                {(known.length > 0 ? known.map((offer) => offer.text) : [keyword]).map((word) => (
                  <option key={word}>{word}</option>
                ))}
              </select>
              <input
                aria-label={`Value of ${keyword}`}
                list={keyword === "acl" ? "acls" : undefined}
                className={`${BOX} flex-1`}
                value={value}
                onChange={(event) => put(id, { value: event.target.value })}
              />
              {lines.length > 1 && (
                <button
                  type="button"
                  className="cursor-pointer text-rust hover:underline"
                  onClick={() => setLines((list) => list.filter((one) => one.id !== id))}
                >
                  Remove
                </button>
              )}
            </span>
          ))}
          <span className="text-sm text-soft">{known.find((offer) => offer.text === lines.at(-1)?.keyword)?.detail}</span>
        </span>
        <datalist id="acls">
          {acls.data
            ?.filter((offer) => offer.kind === "name")
            .map((offer) => (
              <option key={offer.text} value={offer.text} />
            ))}
        </datalist>
        <button
          type="button"
          className="mt-1 cursor-pointer text-deep hover:underline"
          onClick={() =>
            setLines((list) => [...list, { id: Math.max(...list.map((one) => one.id)) + 1, keyword: "role", value: "" }])
          }
        >
          Add a statement
        </button>
      </Field>
    </form>
  );
}
