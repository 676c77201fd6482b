import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { useState } from "react";
import { api, dataOf } from "../../api/client";
import { Confirm } from "../../parts/Confirm";
import { Notice } from "../../parts/Notice";
import { clock, day } from "../../parts/time";
import { useRole } from "../../queries";
import { Difference } from "./Difference";

/** An edition: who made it and why, what going back to it would change, and the way back. */
export function EditionPage() {
  const number = Number(useParams({ from: "/inside/policy/editions/$number" }).number);
  const edition = useQuery({
    queryKey: ["editions", number],
    queryFn: async () => dataOf(await api.GET("/api/v1/policy/editions/{number}", { params: { path: { number } } })),
  });
  const shown = edition.data;
  // What an edition brought is told against the one that it took the place of; what going back brings,
  // against the one that decides, which is then the one that is replaced and no other.
  const active = shown?.state === "active";
  const compared = useQuery({
    queryKey: ["difference", active, number],
    enabled: shown !== undefined,
    queryFn: async () => {
      const from = active ? number - 1 : dataOf(await api.GET("/api/v1/policy")).edition.number;
      if (from === 0) return { from, difference: null };
      const body = { from: { edition: from }, to: { edition: number } };
      return { from, difference: dataOf(await api.POST("/api/v1/policy/difference", { body })) };
    },
  });
  if (edition.error) return <Notice title={`Edition ${number} cannot be shown`} text={edition.error.message} />;
  if (!shown) return null;
  return (
    <>
      <title>{`Edition ${number} · Regnant`}</title>
      <header className="mb-4 border-b border-ink pb-3">
        <h1 className="font-serif text-2xl">
          Edition {number} <span className="text-soft">· {shown.state}</span>
        </h1>
        <p className="text-soft">
          Made {day(shown.created_at)}, {clock(shown.created_at)}, by {shown.created_by}
          {shown.made_from != null && `, from edition ${shown.made_from}`} ·{" "}
          <Link to="/policy/editions" className="text-deep underline">
            all editions
          </Link>
        </p>
        {shown.note && <p className="mt-2 font-serif">{shown.note}</p>}
      </header>
      {!active && compared.data && <GoBack number={number} seen={compared.data.from} />}
      <h2 className="mt-4 mb-2 font-serif text-xl">
        {active ? `What it changed of edition ${number - 1}` : "What going back to it would change"}
      </h2>
      {compared.error && <p role="alert">{compared.error.message}</p>}
      {compared.data?.difference && <Difference difference={compared.data.difference} />}
      <h2 className="mt-6 mb-2 font-serif text-xl">Its text</h2>
      {[["main.writ", shown.source] as const, ...Object.entries(shown.included)].map(([path, text]) => (
        <details key={path} className="mb-2">
          <summary className="cursor-pointer text-deep">{path}</summary>
          <pre className="whitespace-pre-wrap font-mono text-[13px] leading-6">{text}</pre>
        </details>
      ))}
    </>
  );
}

function GoBack({ number, seen }: { number: number; seen: number }) {
  const [note, setNote] = useState("");
  const known = useQueryClient();
  const back = useMutation({
    mutationFn: async () => {
      const params = { header: { "If-Match": `"${seen}"` } };
      return dataOf(await api.POST("/api/v1/policy/rollback", { params, body: { number, note } }));
    },
    onSuccess: () => known.invalidateQueries(),
  });
  const engineer = useRole() === "engineer";
  if (back.data) {
    const next = String(back.data.number);
    return (
      <p role="status">
        Its text decides again, as{" "}
        <Link to="/policy/editions/$number" params={{ number: next }} className="text-deep underline">
          edition {next}
        </Link>
        , in the place of edition {back.data.replaces}.
      </p>
    );
  }
  if (!engineer) return null;
  return (
    <Confirm
      action="Make it the active one again"
      title={`Go back to edition ${number}?`}
      keep="Leave it as it is"
      confirm="Go back"
      error={back.error}
      busy={back.isPending}
      act={() => back.mutate()}
    >
      <p>
        It is checked against the records as they are now, and becomes a new edition with the same text. Who is connected stays so
        until they are asked again.
      </p>
      <label className="mt-3 block">
        Why
        <input
          value={note}
          onChange={(event) => setNote(event.target.value)}
          className="mt-1 w-full rounded-sm border border-soft bg-sheet px-3 py-1"
        />
      </label>
    </Confirm>
  );
}
