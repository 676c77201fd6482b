import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { api, dataOf } from "../../api/client";
import type { components } from "../../api/schema";
import { Facts } from "../../parts/Facts";
import { Notice } from "../../parts/Notice";
import { moment } from "../../parts/time";

type Field = components["schemas"]["FieldView"];

/** A change, field by field. */
export function Change() {
  const { revision } = useParams({ from: "/inside/settings/audit/$revision" });
  const found = useQuery({
    queryKey: ["change", revision],
    queryFn: async () => dataOf(await api.GET("/api/v1/audit/{revision}", { params: { path: { revision: Number(revision) } } })),
  });
  if (found.error) return <Notice title="This change cannot be shown" text={found.error.message} />;
  if (!found.data) return null;
  const { change, fields } = found.data;
  return (
    <article className="max-w-4xl">
      <title>{`Change ${change.revision} · Regnant`}</title>
      <p className="text-soft">
        <Link to="/settings/audit" className="text-deep underline">
          Audit
        </Link>{" "}
        · change {change.revision}
      </p>
      <h1 className="mt-2 mb-6 font-serif text-2xl">
        {change.what} {change.subject && <span className="text-soft">{change.subject}</span>}
      </h1>
      <Facts
        rows={[
          ["by", change.by],
          ["from", change.from],
          ["at", moment(change.at)],
          ["not done", change.refused],
          [
            "hash",
            <code key="hash" className="break-all">
              {change.chain}
            </code>,
          ],
        ]}
      />
      {fields.length > 0 && (
        <table className="mt-6 w-full border-t border-line text-left">
          <thead>
            <tr className="text-soft">
              <th className="py-1 font-normal">field</th>
              <th className="font-normal">before</th>
              <th className="font-normal">after</th>
            </tr>
          </thead>
          <tbody>
            {fields.map((field, place) => (
              <Line key={`${field.record} ${field.field}`} field={field} first={fields[place - 1]?.record !== field.record} />
            ))}
          </tbody>
        </table>
      )}
    </article>
  );
}

function Line({ field, first }: { field: Field; first: boolean }) {
  return (
    <>
      {first && (
        <tr className="border-t border-line">
          <th colSpan={3} className="pt-3 pb-1 font-semibold">
            {field.record}
          </th>
        </tr>
      )}
      <tr className="border-t border-line align-top">
        <td className="py-1 pr-4 text-soft">{field.field}</td>
        <td className="pr-4 break-words">{shown(field.before, field.secret)}</td>
        <td className="break-words">
          {field.secret && field.before != null && field.after != null ? "another secret" : shown(field.after, field.secret)}
        </td>
      </tr>
    </>
  );
}

function shown(value: unknown, secret: boolean): string {
  if (value === null || value === undefined) return "–";
  if (secret) return "a secret";
  return typeof value === "string" ? value || "“”" : JSON.stringify(value);
}
