import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, dataOf, over } from "../../../api/client";
import type { components } from "../../../api/schema";
import { Confirm } from "../../../parts/Confirm";
import { Facts } from "../../../parts/Facts";
import { Notice } from "../../../parts/Notice";
import { MOST, useRole } from "../../../queries";
import { LanguageForm } from "./LanguageForm";

type Dialect = components["schemas"]["DialectView"];

/** How makes of equipment are told what access consists of. */
export function Dialects() {
  const [adding, setAdding] = useState(false);
  const [open, setOpen] = useState("");
  const role = useRole();
  const known = useQuery({
    queryKey: ["dialects"],
    queryFn: async () => dataOf(await api.GET("/api/v1/dialects", { params: { query: { limit: MOST } } })),
  });
  if (known.error) return <Notice title="Dialects cannot be shown" text={known.error.message} />;
  return (
    <>
      {role === "engineer" && !adding && (
        <p className="mb-3 text-right">
          <button type="button" onClick={() => setAdding(true)} className="cursor-pointer text-deep hover:underline">
            Add or replace a dialect
          </button>
        </p>
      )}
      {adding && <LanguageForm kind="dialect" known={known.data?.dialects ?? []} done={() => setAdding(false)} />}
      <ul aria-label="Dialects" className="border-t border-line">
        {known.data?.dialects.map((dialect) => (
          <li key={dialect.name} className="border-b border-line py-1.5">
            <div className="grid grid-cols-[12rem_1fr_12rem_5rem] items-baseline gap-x-4">
              <button
                type="button"
                aria-expanded={open === dialect.name}
                onClick={() => setOpen(open === dialect.name ? "" : dialect.name)}
                className="cursor-pointer text-left font-semibold text-deep hover:underline"
              >
                {dialect.name}
              </button>
              <span className="text-soft">
                {dialect.title}
                {dialect.extends && `, beside ${dialect.extends}`}
              </span>
              <Speakers dialect={dialect} />
              {role === "engineer" && !dialect.ships ? <Remove dialect={dialect} /> : <span className="text-soft">ships</span>}
            </div>
            {open === dialect.name && <Content name={dialect.name} />}
          </li>
        ))}
      </ul>
    </>
  );
}

function Speakers({ dialect }: { dialect: Dialect }) {
  if (dialect.nases.length === 0) return <span className="text-soft">nothing speaks it</span>;
  return (
    <Link to="/network" search={{ q: dialect.name }} className="text-deep hover:underline">
      {dialect.nases.length === 1 ? "1 NAS speaks it" : `${dialect.nases.length} NASes speak it`}
    </Link>
  );
}

function Content({ name }: { name: string }) {
  const found = useQuery({
    queryKey: ["dialect", name],
    queryFn: async () => dataOf(await api.GET("/api/v1/dialects/{name}", { params: { path: { name } } })),
  });
  if (found.error) return <p className="py-2 text-rust">{found.error.message}</p>;
  if (!found.data) return null;
  const { statements, lists, mac_bypass, several_classes, text } = found.data;
  return (
    <div className="py-3">
      <Facts
        rows={[
          ["access lists", lists ?? "cannot travel"],
          ["MAC bypass", mac_bypass.join(", ")],
          ["Class", several_classes ? "repeats several" : "repeats one"],
        ]}
      />
      <table className="mt-4 w-full border-t border-line text-left">
        <thead>
          <tr className="text-soft">
            <th className="w-48 py-1 font-normal">a grant says</th>
            <th className="font-normal">its equipment is told</th>
          </tr>
        </thead>
        <tbody>
          {statements.map((statement) => (
            <tr key={statement.keyword} className="border-t border-line align-top">
              <td className="py-1 font-semibold">{statement.keyword}</td>
              <td>
                {statement.cannot ? (
                  <span className="text-rust">{statement.cannot}</span>
                ) : (
                  statement.attributes.map((attribute) => (
                    <div key={`${attribute.name} ${attribute.value}`}>
                      {attribute.name} = <code>{attribute.value}</code>
                    </div>
                  ))
                )}
                {statement.needs.length > 0 && <span className="text-sm text-soft">with {statement.needs.join(", ")}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {text && (
        <details className="mt-3">
          <summary className="cursor-pointer text-deep">Its file</summary>
          <pre className="mt-2 overflow-x-auto bg-tint p-3 text-sm">{text}</pre>
        </details>
      )}
    </div>
  );
}

function Remove({ dialect }: { dialect: Dialect }) {
  const queries = useQueryClient();
  const removed = useMutation({
    mutationFn: async () => {
      await api.DELETE("/api/v1/dialects/{name}", {
        params: { path: { name: dialect.name }, header: over(dialect) },
      });
    },
    onSuccess: () => void queries.invalidateQueries(),
  });
  return (
    <Confirm
      action="Remove"
      title={`Remove the dialect ${dialect.name}?`}
      keep="Keep it"
      confirm="Remove it"
      error={removed.error}
      busy={removed.isPending}
      forbidden={dialect.nases.length > 0}
      act={() => removed.mutate()}
    >
      {dialect.nases.length > 0
        ? `${dialect.nases.join(", ")} speak it, so that it stays until they speak another.`
        : "Nothing speaks it. The active policy goes on without it, as a new edition."}
    </Confirm>
  );
}
