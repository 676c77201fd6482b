import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, dataOf, over } from "../../../api/client";
import type { components } from "../../../api/schema";
import { Confirm } from "../../../parts/Confirm";
import { Notice } from "../../../parts/Notice";
import { MOST, useRole } from "../../../queries";
import { LanguageForm } from "./LanguageForm";

type Dictionary = components["schemas"]["DictionaryView"];

/** Names and types of attributes: those of RFCs, and those of vendors. */
export function Dictionaries() {
  const [adding, setAdding] = useState(false);
  const [open, setOpen] = useState("");
  const role = useRole();
  const known = useQuery({
    queryKey: ["dictionaries"],
    queryFn: async () => dataOf(await api.GET("/api/v1/dictionaries", { params: { query: { limit: MOST } } })),
  });
  if (known.error) return <Notice title="Dictionaries cannot be shown" text={known.error.message} />;
  return (
    <>
      {role === "engineer" && !adding && (
        <p className="mb-3 text-right">
          <button type="button" onClick={() => setAdding(true)} className="cursor-pointer text-deep hover:underline">
            Add or replace a dictionary
          </button>
        </p>
      )}
      {adding && <LanguageForm kind="dictionary" known={known.data?.dictionaries ?? []} done={() => setAdding(false)} />}
      <ul aria-label="Dictionaries" className="border-t border-line">
        {known.data?.dictionaries.map((dictionary) => (
          <li key={dictionary.name} className="border-b border-line py-1.5">
            <div className="grid grid-cols-[12rem_1fr_9rem_5rem] items-baseline gap-x-4">
              <button
                type="button"
                aria-expanded={open === dictionary.name}
                onClick={() => setOpen(open === dictionary.name ? "" : dictionary.name)}
                className="cursor-pointer text-left font-semibold text-deep hover:underline"
              >
                {dictionary.name}
              </button>
              <span className="text-soft">
                {dictionary.title}
                {dictionary.vendor != null && ` (enterprise ${dictionary.vendor})`}
              </span>
              <span>{dictionary.attributes} attributes</span>
              {role === "engineer" && !dictionary.ships ? (
                <Remove dictionary={dictionary} />
              ) : (
                <span className="text-soft">ships</span>
              )}
            </div>
            {open === dictionary.name && <Content name={dictionary.name} />}
          </li>
        ))}
      </ul>
    </>
  );
}

function Content({ name }: { name: string }) {
  const found = useQuery({
    queryKey: ["dictionary", name],
    queryFn: async () => dataOf(await api.GET("/api/v1/dictionaries/{name}", { params: { path: { name } } })),
  });
  if (found.error) return <p className="py-2 text-rust">{found.error.message}</p>;
  return (
    <table className="my-3 w-full border-t border-line text-left">
      <thead>
        <tr className="text-soft">
          <th className="w-28 py-1 font-normal">number</th>
          <th className="font-normal">name</th>
          <th className="font-normal">type</th>
          <th className="font-normal">fact</th>
          <th className="font-normal">source</th>
        </tr>
      </thead>
      <tbody>
        {found.data?.attributes.map((attribute) => (
          <tr key={attribute.number} className="border-t border-line align-top">
            <td className="py-0.5 tabular-nums">{attribute.number}</td>
            <td className="font-semibold">{attribute.name}</td>
            <td>
              {attribute.type}
              {attribute.secret && ", secret"}
              {attribute.tagged && ", tagged"}
            </td>
            <td>
              {attribute.fact ? <code className="text-sm">{attribute.fact}</code> : <span className="text-soft">none</span>}
            </td>
            <td className="text-soft">{attribute.source}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Remove({ dictionary }: { dictionary: Dictionary }) {
  const queries = useQueryClient();
  const removed = useMutation({
    mutationFn: async () => {
      await api.DELETE("/api/v1/dictionaries/{name}", {
        params: { path: { name: dictionary.name }, header: over(dictionary) },
      });
    },
    onSuccess: () => void queries.invalidateQueries(),
  });
  return (
    <Confirm
      action="Remove"
      title={`Remove the dictionary ${dictionary.name}?`}
      keep="Keep it"
      confirm="Remove it"
      error={removed.error}
      busy={removed.isPending}
      act={() => removed.mutate()}
    >
      Its attributes are no facts any more and cannot be sent. Where the policy or a dialect names one, it stays.
    </Confirm>
  );
}
