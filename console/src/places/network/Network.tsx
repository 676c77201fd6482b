import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { api, dataOf } from "../../api/client";
import { Mark } from "../../parts/Mark";
import { Notice } from "../../parts/Notice";
import { holds, type Nas } from "./nases";
import { UnheardSenders } from "./UnheardSenders";

/** The equipment that asks, and who asks in vain. */
export function Network() {
  const { q = "" } = useSearch({ from: "/inside/network" });
  const navigate = useNavigate();
  const nases = useQuery({
    queryKey: ["nases"],
    queryFn: async () => dataOf(await api.GET("/api/v1/nases", { params: { query: { limit: 5000 } } })),
  });
  if (nases.error) return <Notice title="Equipment cannot be shown" text={nases.error.message} />;
  const shown = (nases.data?.nases ?? []).filter((nas) => holds(nas, q));
  return (
    <>
      <title>Network · Regnant</title>
      <header className="mb-4 flex flex-wrap items-center gap-x-5 gap-y-2 border-b border-ink pb-3">
        <h1 className="font-serif text-2xl">Network</h1>
        <input
          type="search"
          aria-label="Find equipment"
          placeholder="Name, address, site, tag …"
          value={q}
          onChange={(event) =>
            void navigate({ to: "/network", search: event.target.value ? { q: event.target.value } : {}, replace: true })
          }
          className="w-72 rounded-sm border border-soft bg-sheet px-3 py-1"
        />
        <Link to="/network/new" className="ml-auto rounded-sm bg-deep px-3 py-1 text-paper">
          Add a NAS
        </Link>
      </header>
      <UnheardSenders />
      <h2 className="mb-2 text-lg font-semibold">Equipment</h2>
      {nases.data && shown.length === 0 ? (
        <p className="text-soft">{nases.data.all === 0 ? "No equipment may ask yet: add the first." : "None fits."}</p>
      ) : (
        <ul aria-label="Equipment" className="border-t border-line">
          {shown.map((nas) => (
            <Row key={nas.name} nas={nas} />
          ))}
        </ul>
      )}
    </>
  );
}

function Row({ nas }: { nas: Nas }) {
  return (
    <li className="relative grid grid-cols-[14rem_1fr_8rem_9rem_10rem] items-baseline gap-x-4 border-b border-line py-1.5 hover:bg-tint">
      <Link to="/network/$name" params={{ name: nas.name }} className="font-semibold text-deep after:absolute after:inset-0">
        {nas.name}
      </Link>
      <span className="truncate tabular-nums">{nas.addresses.join(", ")}</span>
      <span>{nas.kind}</span>
      <span className="truncate">{nas.site}</span>
      <span className="truncate text-soft">
        {nas.lacks.length > 0 && (
          <>
            <Inline of="refused" /> lacks something
          </>
        )}
        {nas.lacks.length === 0 && !nas.require_message_authenticator && (
          <>
            <Inline of="unheard" /> need not sign
          </>
        )}
        {nas.lacks.length === 0 && nas.require_message_authenticator && nas.dialect}
      </span>
    </li>
  );
}

/** A mark that makes its line no higher. */
function Inline({ of }: { of: string }) {
  return (
    <span className="-my-1 inline-block align-middle">
      <Mark of={of} />
    </span>
  );
}
