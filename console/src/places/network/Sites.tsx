import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { api, dataOf } from "../../api/client";
import { Notice } from "../../parts/Notice";
import { Rename } from "../../parts/Rename";
import { useRole } from "../../queries";

/** Where equipment stands, and where the active policy names it. */
export function Sites() {
  const queries = useQueryClient();
  const role = useRole();
  const known = useQuery({ queryKey: ["sites"], queryFn: async () => dataOf(await api.GET("/api/v1/sites")) });
  if (known.error) return <Notice title="Sites cannot be shown" text={known.error.message} />;
  if (!known.data) return null;
  if (known.data.sites.length === 0)
    return <p className="text-soft">No equipment stands anywhere yet: a site is what its form says.</p>;
  return (
    <ul aria-label="Sites" className="border-t border-line">
      {known.data.sites.map((site) => (
        <li key={site.name} className="grid grid-cols-[14rem_10rem_1fr_5rem] items-baseline gap-x-4 border-b border-line py-1.5">
          <span className="font-semibold">{site.name || "(none)"}</span>
          <Link to="/network" search={{ q: site.name }} className="text-deep hover:underline">
            {site.nases === 1 ? "1 NAS" : `${site.nases} NASes`}
          </Link>
          <span className="min-w-0 break-words text-soft">
            {site.named_by.length === 0 ? "The active policy does not name it." : `named by ${site.named_by.join("; ")}`}
          </span>
          {role === "engineer" && site.nases > 0 && (
            <Rename
              what="site"
              name={site.name}
              named={site.named_by}
              follows={`${site.nases === 1 ? "One NAS stands" : `${site.nases} NASes stand`} there then.`}
              rename={async (name, anyway) => {
                dataOf(
                  await api.PATCH("/api/v1/sites/{name}", { params: { path: { name: site.name } }, body: { name, anyway } }),
                );
                await queries.invalidateQueries();
              }}
            />
          )}
        </li>
      ))}
    </ul>
  );
}
