import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import { api, dataOf } from "../../api/client";
import { Exports } from "../../parts/Exports";
import { ImportFile } from "../../parts/ImportFile";
import { Mark } from "../../parts/Mark";
import { Notice } from "../../parts/Notice";
import { PlaceHead } from "../../parts/PlaceHead";
import { Rows } from "../../parts/Rows";
import { Views } from "../../parts/Views";
import { MOST, useRole } from "../../queries";
import { Dialects } from "./languages/Dialects";
import { Dictionaries } from "./languages/Dictionaries";
import { Secrets } from "./languages/Secrets";
import { type Nas, type NetworkView, VIEWS } from "./nases";
import { Sites } from "./Sites";
import { Together } from "./Together";
import { UnheardSenders } from "./UnheardSenders";

const FIELDS = [
  "name",
  "addresses",
  "kind",
  "site",
  "tags",
  "note",
  "dialect",
  "require_message_authenticator",
  "class_at_login",
] as const;

/** The equipment that asks, who asks in vain, where it stands, and how it speaks. */
export function Network() {
  const { q = "", show = "equipment" } = useSearch({ from: "/inside/network" });
  const navigate = useNavigate();
  const role = useRole();
  const [importing, setImporting] = useState(false);
  const searched = show === "equipment" || show === "sites";
  const look = (text: string) =>
    void navigate({
      to: "/network",
      search: { ...(show === "sites" ? { show } : {}), ...(text ? { q: text } : {}) },
      replace: true,
    });
  const turn = (view: NetworkView) => void navigate({ to: "/network", search: view === "equipment" ? {} : { show: view } });
  return (
    <>
      <title>Network · Regnant</title>
      <PlaceHead title="Network" placeholder="Name, address, site, tag …" q={q} look={searched ? look : undefined}>
        <Views views={VIEWS} shown={show} show={turn} />
        {searched && role === "engineer" && (
          <span className="ml-auto flex items-center gap-5">
            <button type="button" onClick={() => setImporting(!importing)} className="cursor-pointer text-deep hover:underline">
              Import
            </button>
            {show === "equipment" && (
              <Link to="/network/new" className="rounded-sm bg-deep px-3 py-1 text-paper">
                Add a NAS
              </Link>
            )}
          </span>
        )}
      </PlaceHead>
      {importing && searched && (
        <ImportFile key={show} kind={show === "sites" ? "sites" : "nases"} done={() => setImporting(false)} />
      )}
      {show === "equipment" && (
        <>
          <UnheardSenders />
          <Equipment q={q} />
        </>
      )}
      {show === "sites" && <Sites q={q} />}
      {show === "dialects" && <Dialects />}
      {show === "dictionaries" && <Dictionaries />}
      {show === "secrets" && <Secrets />}
    </>
  );
}

function Equipment({ q }: { q: string }) {
  const nases = useQuery({
    queryKey: ["nases", q],
    placeholderData: keepPreviousData,
    queryFn: async () => dataOf(await api.GET("/api/v1/nases", { params: { query: { q, limit: MOST } } })),
  });
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const engineer = useRole() === "engineer";
  const choose = (name: string, is: boolean) =>
    setChosen(new Set(is ? [...chosen, name] : [...chosen].filter((one) => one !== name)));
  if (nases.error) return <Notice title="Equipment cannot be shown" text={nases.error.message} />;
  if (!nases.data) return null;
  const shown = nases.data.nases;
  if (shown.length === 0)
    return <p className="text-soft">{nases.data.all === 0 ? "No equipment may ask yet: add the first." : "None fits."}</p>;
  return (
    <>
      <h2 className="mb-2 text-lg font-semibold">Equipment</h2>
      {engineer && (
        <Together chosen={shown.map((nas) => nas.name).filter((name) => chosen.has(name))} clear={() => setChosen(new Set())} />
      )}
      <Rows label="Equipment" rows={shown} keyOf={(nas) => nas.name}>
        {(nas) => (
          <Row nas={nas}>
            {engineer ? (
              <input
                type="checkbox"
                aria-label={`Choose ${nas.name}`}
                checked={chosen.has(nas.name)}
                onChange={(event) => choose(nas.name, event.target.checked)}
                className="relative z-10"
              />
            ) : (
              <span />
            )}
          </Row>
        )}
      </Rows>
      <p className="mt-2 flex justify-between text-sm text-soft">
        <span role="status">
          {shown.length} of {nases.data.all}
        </span>
        <Exports name="nases" fields={FIELDS} all={() => Promise.resolve(shown)} />
      </p>
    </>
  );
}

function Row({ nas, children }: { nas: Nas; children: ReactNode }) {
  return (
    <div className="grid h-full grid-cols-[1.5rem_14rem_1fr_8rem_9rem_10rem] items-center gap-x-4">
      {children}
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
    </div>
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
