import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { api, dataOf } from "../api/client";
import { useRole } from "../queries";
import { moment } from "./time";

/** What was changed about a record, the last first; for those who may read it. */
export function Past({ record }: { record: string }) {
  const role = useRole();
  const may = role === "engineer" || role === "auditor";
  const past = useQuery({
    queryKey: ["audit", record],
    enabled: may,
    queryFn: async () => dataOf(await api.GET("/api/v1/audit", { params: { query: { record, limit: 20 } } })),
  });
  if (!may) return null;
  return (
    <section className="mt-6">
      <h2 className="border-b border-ink pb-1 font-serif text-xl">Its past</h2>
      {past.error && <p className="py-2 text-soft">{past.error.message}</p>}
      {past.data?.changes.length === 0 && <p className="py-2 text-soft">It is as it came before changes were kept.</p>}
      <ol aria-label="Its past">
        {past.data?.changes.map((change) => (
          <li
            key={String(change.revision)}
            className="relative grid grid-cols-[11rem_1fr] gap-x-4 border-b border-line py-1.5 hover:bg-tint"
          >
            <Link
              to="/settings/audit/$revision"
              params={{ revision: String(change.revision) }}
              className="text-soft after:absolute after:inset-0"
            >
              {moment(change.at)}
            </Link>
            <span>
              {change.what} by <em>{change.by}</em>
              {change.from && <span className="text-soft"> from {change.from}</span>}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}
