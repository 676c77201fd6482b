import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { components } from "../api/schema";
import { Refused } from "./Refused";

export type Kind = "nases" | "people" | "machines" | "devices" | "groups" | "sites" | "stores" | "administrators";
type Report = components["schemas"]["ImportView"];

/** Takes a file of records: says first what would come of it, then applies it. */
export function ImportFile(props: { kind: Kind; done: () => void }) {
  const [file, setFile] = useState<File>();
  const [allOrNone, setAllOrNone] = useState(false);
  const queries = useQueryClient();
  const send = async (dryRun: boolean): Promise<Report> => {
    if (!file) throw new Error("Choose a file first.");
    const query = new URLSearchParams({ dry_run: String(dryRun), all_or_none: String(allOrNone) });
    const answer = await fetch(`/api/v1/import/${props.kind}?${query.toString()}`, {
      method: "POST",
      headers: { "content-type": /json/i.test(file.name) ? "application/x-ndjson" : "text/csv" },
      body: file,
    });
    const body: unknown = await answer.json();
    if (!answer.ok) throw new Error(String((body as { error?: string }).error ?? `The service answered ${answer.status}.`));
    return body as Report;
  };
  const tried = useMutation({ mutationFn: () => send(true) });
  const applied = useMutation({ mutationFn: () => send(false), onSuccess: () => void queries.invalidateQueries() });
  const report = applied.data ?? tried.data;
  return (
    <section aria-label="Import a file" className="mb-6 border border-line bg-sheet p-4">
      <p className="flex flex-wrap items-center gap-5">
        <input
          type="file"
          aria-label="A file of records"
          accept=".csv,.json,.jsonl,.ndjson,text/csv"
          onChange={(event) => {
            setFile(event.target.files?.[0]);
            tried.reset();
            applied.reset();
          }}
        />
        <label>
          <input type="checkbox" checked={allOrNone} onChange={(event) => setAllOrNone(event.target.checked)} className="mr-2" />
          all lines or none
        </label>
        <button
          type="button"
          disabled={!file || tried.isPending}
          onClick={() => tried.mutate()}
          className="cursor-pointer text-deep hover:underline disabled:text-soft"
        >
          {tried.isPending ? "Reading …" : "See what would come of it"}
        </button>
        <button
          type="button"
          disabled={!tried.data || applied.isPending || applied.isSuccess}
          onClick={() => applied.mutate()}
          className="cursor-pointer rounded-sm bg-deep px-3 py-1 text-paper disabled:opacity-50"
        >
          {applied.isPending ? "Importing …" : "Import it"}
        </button>
        <button type="button" onClick={props.done} className="ml-auto cursor-pointer text-deep hover:underline">
          Close
        </button>
      </p>
      <p className="mt-2 text-sm text-soft">
        CSV with the names of fields in its first line, as the CSV of this list has them, or a JSON object in each line. What a
        line does not say stays.
      </p>
      <Refused error={applied.error ?? tried.error} />
      {report && (
        <div role="status" className="mt-3">
          <p className="font-semibold">
            {applied.data ? (report.applied ? "Imported: " : "Nothing was imported: ") : "It would be: "}
            {report.added} new, {report.changed} changed, {report.refused} refused.
          </p>
          {report.lines.length > 0 && (
            <ul aria-label="Refused lines" className="mt-1 max-h-48 overflow-y-auto border-t border-line text-sm">
              {report.lines.map((line) => (
                <li key={line.line} className="border-b border-line py-0.5">
                  <span className="mr-3 text-soft tabular-nums">line {line.line}</span>
                  {line.why}
                </li>
              ))}
            </ul>
          )}
        </div>
      )}
    </section>
  );
}
