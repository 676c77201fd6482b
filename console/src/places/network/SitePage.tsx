import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { api, dataOf, etagOf } from "../../api/client";
import { CommonNamePage } from "../../parts/CommonNamePage";
import { Notice } from "../../parts/Notice";

/** A site: what people should know of it, what stands there, where the policy names it. */
export function SitePage() {
  const { name } = useParams({ from: "/inside/network/sites/$name" });
  const navigate = useNavigate();
  const found = useQuery({
    queryKey: ["site", name],
    queryFn: async () => {
      const answer = await api.GET("/api/v1/sites/{name}", { params: { path: { name } } });
      return { site: dataOf(answer), seen: etagOf(answer) };
    },
  });
  if (found.error) return <Notice title="This site cannot be shown" text={found.error.message} />;
  if (!found.data) return null;
  const { site, seen } = found.data;
  const params = { path: { name: site.name }, header: { "If-Match": seen } };
  return (
    <CommonNamePage
      what="site"
      name={site.name}
      note={site.note}
      named={site.named_by}
      had={
        <Link to="/network" search={{ q: site.name }} className="text-deep hover:underline">
          {site.nases === 1 ? "1 NAS" : `${site.nases} NASes`}
        </Link>
      }
      isHad={site.nases > 0}
      follows={`${site.nases === 1 ? "One NAS stands" : `${site.nases} NASes stand`} there then.`}
      back={
        <Link to="/network" search={{ show: "sites" }} className="text-deep underline">
          Sites
        </Link>
      }
      setNote={async (note) => {
        dataOf(await api.PUT("/api/v1/sites/{name}", { params, body: { note } }));
      }}
      rename={async (to, anyway) => {
        dataOf(await api.PATCH("/api/v1/sites/{name}", { params, body: { name: to, anyway } }));
      }}
      remove={async (anyway) => {
        dataOf(await api.DELETE("/api/v1/sites/{name}", { params: { ...params, query: { anyway } } }));
      }}
      goTo={(to) => navigate({ to: "/network/sites/$name", params: { name: to } })}
      leave={() => navigate({ to: "/network", search: { show: "sites" } })}
    />
  );
}
