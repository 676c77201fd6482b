import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { api, dataOf } from "../../api/client";
import { Exports } from "../../parts/Exports";
import { ImportFile } from "../../parts/ImportFile";
import { Notice } from "../../parts/Notice";
import { PlaceHead } from "../../parts/PlaceHead";
import { Rows } from "../../parts/Rows";
import { moment } from "../../parts/time";
import { Views } from "../../parts/Views";
import { MOST, useRole } from "../../queries";
import { Groups } from "./Groups";
import { type Machine, type Person, state, VIEWS } from "./people";
import { Stores } from "./Stores";
import { Together } from "./Together";

const FIELDS = ["store", "name", "groups", "disabled", "expires", "mschap", "note"] as const;

/** People and machines that prove themselves, their groups, and the stores they are in. */
export function People() {
  const { show = "people", q = "" } = useSearch({ from: "/inside/people" });
  const navigate = useNavigate();
  const role = useRole();
  const [importing, setImporting] = useState(false);
  const look = (text: string) =>
    void navigate({ to: "/people", search: { show: show === "people" ? undefined : show, q: text || undefined }, replace: true });
  return (
    <>
      <title>People · Regnant</title>
      <PlaceHead title="People" placeholder="Name, group, note …" q={q} look={look}>
        <Views
          views={VIEWS}
          shown={show}
          show={(view) =>
            void navigate({ to: "/people", search: { show: view === "people" ? undefined : view, q: q || undefined } })
          }
        />
        {role === "engineer" && (
          <span className="ml-auto flex items-center gap-5">
            <button type="button" onClick={() => setImporting(!importing)} className="cursor-pointer text-deep hover:underline">
              Import
            </button>
            {(show === "people" || show === "machines") && (
              <Link to={show === "people" ? "/people/new" : "/machines/new"} className="rounded-sm bg-deep px-3 py-1 text-paper">
                {show === "people" ? "Add a person" : "Add a machine"}
              </Link>
            )}
          </span>
        )}
      </PlaceHead>
      {importing && <ImportFile key={show} kind={show} done={() => setImporting(false)} />}
      {show === "people" && <PersonList q={q} />}
      {show === "machines" && <MachineList q={q} />}
      {show === "groups" && <Groups q={q} />}
      {show === "stores" && <Stores q={q} />}
    </>
  );
}

function PersonList({ q }: { q: string }) {
  const people = useQuery({
    queryKey: ["people", q],
    placeholderData: keepPreviousData,
    queryFn: async () => dataOf(await api.GET("/api/v1/people", { params: { query: { q, limit: MOST } } })),
  });
  if (people.error) return <Notice title="People cannot be shown" text={people.error.message} />;
  return (
    <Accounts
      label="People"
      shown={people.data?.people}
      all={people.data?.all ?? 0}
      none="No store knows a person yet: add the first."
      to="/people/$store/$name"
    />
  );
}

function MachineList({ q }: { q: string }) {
  const machines = useQuery({
    queryKey: ["machines", q],
    placeholderData: keepPreviousData,
    queryFn: async () => dataOf(await api.GET("/api/v1/machines", { params: { query: { q, limit: MOST } } })),
  });
  if (machines.error) return <Notice title="Machines cannot be shown" text={machines.error.message} />;
  return (
    <Accounts
      label="Machines"
      shown={machines.data?.machines}
      all={machines.data?.all ?? 0}
      none="No store knows a machine yet: add the first."
      to="/machines/$store/$name"
    />
  );
}

function Accounts(props: {
  label: string;
  shown: (Person | Machine)[] | undefined;
  all: number;
  none: string;
  to: "/people/$store/$name" | "/machines/$store/$name";
}) {
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const engineer = useRole() === "engineer";
  const keyOf = (one: Person | Machine) => `${one.store}/${one.name}`;
  const choose = (key: string, is: boolean) =>
    setChosen(new Set(is ? [...chosen, key] : [...chosen].filter((one) => one !== key)));
  const { shown } = props;
  if (!shown) return null;
  if (shown.length === 0) return <p className="text-soft">{props.all === 0 ? props.none : "None fits."}</p>;
  return (
    <>
      {engineer && (
        <Together
          kind={props.label === "People" ? "people" : "machines"}
          chosen={shown.filter((one) => chosen.has(keyOf(one)))}
          clear={() => setChosen(new Set())}
        />
      )}
      <Rows label={props.label} rows={shown} keyOf={keyOf}>
        {(one) => (
          <div className="grid h-full grid-cols-[1.5rem_13rem_8rem_1fr_1fr_1fr] items-center gap-x-4">
            {engineer ? (
              <input
                type="checkbox"
                aria-label={`Choose ${one.name}`}
                checked={chosen.has(keyOf(one))}
                onChange={(event) => choose(keyOf(one), event.target.checked)}
                className="relative z-10"
              />
            ) : (
              <span />
            )}
            <Link
              to={props.to}
              params={{ store: one.store, name: one.name }}
              className="truncate font-semibold text-deep after:absolute after:inset-0"
            >
              {one.name}
            </Link>
            <span className="truncate text-soft">{one.store}</span>
            <span className="truncate">{one.groups.join(", ")}</span>
            <span className="truncate">{state(one)}</span>
            <span className="truncate text-soft">{one.expires ? `until ${moment(one.expires)}` : one.note}</span>
          </div>
        )}
      </Rows>
      <p className="mt-2 flex justify-between text-sm text-soft">
        <span role="status">
          {shown.length} of {props.all}
        </span>
        <Exports name={props.label.toLowerCase()} fields={FIELDS} all={() => Promise.resolve(shown)} />
      </p>
    </>
  );
}
