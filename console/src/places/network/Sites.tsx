import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { api, dataOf } from "../../api/client";
import { Exports } from "../../parts/Exports";
import { NewCommonName } from "../../parts/NewCommonName";
import { Notice } from "../../parts/Notice";
import { Rows } from "../../parts/Rows";
import { MOST, useRole } from "../../queries";

/** Where equipment stands, and where the active policy names it. */
export function Sites({ q }: { q: string }) {
  const role = useRole();
  const known = useQuery({
    queryKey: ["sites", q],
    placeholderData: keepPreviousData,
    queryFn: async () => dataOf(await api.GET("/api/v1/sites", { params: { query: { q, limit: MOST } } })),
  });
  if (known.error) return <Notice title="Sites cannot be shown" text={known.error.message} />;
  if (!known.data) return null;
  const shown = known.data.sites;
  return (
    <>
      {shown.length === 0 && (
        <p className="text-soft">
          {known.data.all === 0 ? "No equipment stands anywhere yet: a site is what its form says." : "None fits."}
        </p>
      )}
      <Rows label="Sites" rows={shown} keyOf={(site) => site.name}>
        {(site) => (
          <div className="grid h-full grid-cols-[14rem_8rem_1fr_1fr] items-center gap-x-4">
            <Link
              to="/network/sites/$name"
              params={{ name: site.name }}
              className="truncate font-semibold text-deep after:absolute after:inset-0"
            >
              {site.name}
            </Link>
            <Link to="/network" search={{ q: site.name }} className="relative z-10 text-deep hover:underline">
              {site.nases === 1 ? "1 NAS" : `${site.nases} NASes`}
            </Link>
            <span className="truncate text-soft" title={site.named_by.join("; ")}>
              {site.named_by.length === 0 ? "The active policy does not name it." : `named by ${site.named_by.join("; ")}`}
            </span>
            <span className="truncate text-soft">{site.note}</span>
          </div>
        )}
      </Rows>
      <p className="mt-2 flex justify-between text-sm text-soft">
        <span role="status">
          {shown.length} of {known.data.all}
        </span>
        <Exports name="sites" fields={["name", "note"]} all={() => Promise.resolve(shown)} />
      </p>
      {role === "engineer" && <NewCommonName what="site" />}
    </>
  );
}
