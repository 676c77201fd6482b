import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { Accordion } from "radix-ui";
import { api, type Detail, dataOf, type Entry, type Station } from "../../api/client";
import { Mark } from "../../parts/Mark";
import { Notice } from "../../parts/Notice";
import { Prose } from "../../parts/Prose";
import { Sentence } from "../../parts/Sentence";
import { clock, day, span } from "../../parts/time";
import { useRole } from "../../queries";
import { Row } from "./Row";

/** One entry with its trail: stations from top to bottom. */
export function Decision() {
  const { id } = useParams({ from: "/inside/journal/$id" });
  const detail = useQuery({
    queryKey: ["entry", id],
    queryFn: async () => dataOf(await api.GET("/api/v1/journal/{id}", { params: { path: { id } } })),
  });
  if (detail.error) return <Notice title="This entry cannot be shown" text={detail.error.message} />;
  if (!detail.data) return null;
  return <Trail detail={detail.data} />;
}

function Trail({ detail: { entry, stations, advice, decision, reports } }: { detail: Detail }) {
  const stopped = stations.filter((station) => station.mark === "stopped").map((station) => station.name);
  return (
    <article className="max-w-4xl">
      <title>{`${entry.reason} · Regnant`}</title>
      <p className="text-soft">
        <Link to="/journal" className="text-deep underline">
          Journal
        </Link>{" "}
        · {day(entry.at)}, {clock(entry.at)}
        {entry.edition && (
          <>
            {" · "}
            <Link to="/policy/editions/$number" params={{ number: String(entry.edition) }} className="text-deep underline">
              edition {entry.edition}
            </Link>
          </>
        )}{" "}
        · <span className="select-all">{entry.id}</span>
      </p>
      <h1 className="mt-2 mb-8 flex gap-3 text-2xl leading-snug">
        <span className="pt-1">
          <Mark of={entry.outcome} />
        </span>
        <Sentence entry={entry} />
      </h1>
      {advice && <Advice text={advice} />}
      {entry.edition && <IntoPolicy id={entry.id} />}
      <Accordion.Root type="multiple" defaultValue={stopped} asChild>
        <ol aria-label="Trail">
          {stations.map((station) => (
            <Stop key={station.name} station={station} />
          ))}
        </ol>
      </Accordion.Root>
      {decision?.entry && (
        <Others title={decision.inferred ? "The decision, as it is inferred" : "The decision"} entries={[decision.entry]} />
      )}
      {reports.length > 0 && <Others title="What was reported of this access" entries={reports} />}
    </article>
  );
}

/** From a decision to the policy, for whoever may see that. */
function IntoPolicy({ id }: { id: string }) {
  const role = useRole();
  if (role === "helpdesk" || role === "") return null;
  const look = "text-deep underline";
  return (
    <p className="mb-6 flex gap-5">
      <Link to="/policy/what-if" search={{ entry: id }} className={look}>
        What if
      </Link>
      {role === "engineer" && (
        <>
          <Link to="/policy" search={{ keep: id }} className={look}>
            Keep it as a case
          </Link>
          <Link to="/policy/compose" search={{ entry: id }} className={look}>
            Compose a rule from it
          </Link>
        </>
      )}
    </p>
  );
}

/** Entries that belong to this one, each with a page of its own. */
function Others({ title, entries }: { title: string; entries: Entry[] }) {
  return (
    <section className="mt-4">
      <h2 className="border-b border-ink pb-1 font-serif text-xl">{title}</h2>
      <ol aria-label={title}>
        {entries.map((entry) => (
          <Row key={entry.id} entry={entry} />
        ))}
      </ol>
    </section>
  );
}

function Stop({ station }: { station: Station }) {
  return (
    <Accordion.Item value={station.name} data-mark={station.mark} asChild>
      <li className="group relative grid grid-cols-[1.5rem_6.5rem_1fr] gap-x-3 pb-6">
        <span aria-hidden className="absolute top-5 bottom-0 left-[0.46rem] w-px bg-line group-last:hidden" />
        <span className="pt-1">
          <Mark of={station.mark} />
        </span>
        <div className="leading-tight">
          <h2 className="font-semibold">{station.name}</h2>
          {station.micros != null && <span className="text-sm text-soft">{span(station.micros)}</span>}
        </div>
        <div className="min-w-0">
          <p className={`font-serif text-[17px] ${station.mark === "skipped" ? "text-soft" : ""}`}>
            <Prose text={station.line} />
          </p>
          {station.advice && <Advice text={station.advice} />}
          {station.evidence.length > 0 && <Evidence station={station} />}
        </div>
      </li>
    </Accordion.Item>
  );
}

function Evidence({ station }: { station: Station }) {
  return (
    <>
      <Accordion.Header asChild>
        <h3>
          <Accordion.Trigger className="group/trigger cursor-pointer text-sm text-deep hover:underline">
            <span className="group-data-[state=open]/trigger:hidden">All that was known ({station.evidence.length})</span>
            <span className="hidden group-data-[state=open]/trigger:inline">Less</span>
          </Accordion.Trigger>
        </h3>
      </Accordion.Header>
      <Accordion.Content>
        <dl className="mt-2 grid grid-cols-[fit-content(18rem)_1fr] border-t border-line text-sm">
          {station.evidence.map((one, index) => (
            <div key={index} className="col-span-2 grid grid-cols-subgrid gap-x-6 border-b border-line py-1">
              <dt className="text-soft">{one.label}</dt>
              <dd className="min-w-0 break-words">{one.value}</dd>
            </div>
          ))}
        </dl>
      </Accordion.Content>
    </>
  );
}

function Advice({ text }: { text: string }) {
  return (
    <p className="my-2 border-l-2 border-deep bg-tint px-3 py-2">
      <Prose text={text} />
    </p>
  );
}
