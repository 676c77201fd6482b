import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { api, CallError, dataOf } from "../../../api/client";
import { Confirm } from "../../../parts/Confirm";
import { BOX } from "../../../parts/Field";
import { Refused } from "../../../parts/Refused";
import { queries, useRole } from "../../../queries";
import { Difference } from "../Difference";
import type { Draft } from "../draft/draft";
import { useCheck } from "../draft/useCheck";
import { renewDraft, useDraftChanges } from "../draft/useDraft";
import { useRested } from "../draft/useRested";
import { WithDraft } from "../draft/WithDraft";
import { WhatHappened } from "../text/Cases";
import { FirstDecisions } from "./FirstDecisions";
import { Others } from "./Others";

/** A note has 2000 bytes at most, with the codes of warnings that were accepted. */
const LONGEST_NOTE = 800;

/** What the draft changes of the edition that decides; its activation, and the way back. */
export function ChangesPage() {
  const { activated, replaced } = useSearch({ from: "/inside/policy/changes" });
  return (
    <WithDraft title="Changes of the policy">
      {(draft) => (
        <div className="max-w-4xl">
          {activated !== undefined && replaced !== undefined && (
            <FirstDecisions number={activated} replaced={replaced} draft={draft} />
          )}
          <Changes draft={draft} />
        </div>
      )}
    </WithDraft>
  );
}

function Changes({ draft }: { draft: Draft }) {
  const revision = useRested(useDraftChanges(draft));
  const mayChange = useRole() === "engineer";
  const difference = useQuery({
    queryKey: ["difference of the draft", draft.active, revision],
    enabled: draft.kept.state !== "same",
    queryFn: async () => {
      const body = { from: { edition: draft.active }, to: { files: draft.body() } };
      return dataOf(await api.POST("/api/v1/policy/difference", { body }));
    },
    gcTime: 1_000,
  });
  if (draft.kept.state === "same") {
    return (
      <p>
        There is no draft: the text is that of edition {draft.active}, which decides.{" "}
        <Link to="/policy" className="text-deep underline">
          Change it as text
        </Link>{" "}
        or{" "}
        <Link to="/policy/gates" className="text-deep underline">
          rule by rule
        </Link>
        , and see here what follows.
      </p>
    );
  }
  return (
    <>
      {draft.active !== draft.madeFrom && <Others draft={draft} />}
      <h2 className="mb-2 font-serif text-xl">What your draft changes of edition {draft.active}</h2>
      {difference.error && <p role="alert">{difference.error.message}</p>}
      {difference.data && <Difference difference={difference.data} />}
      {mayChange && difference.data && <Activation draft={draft} />}
    </>
  );
}

function Activation({ draft }: { draft: Draft }) {
  const check = useCheck(draft, true);
  const navigate = useNavigate();
  const [note, setNote] = useState("");
  const [accepted, setAccepted] = useState("");
  const report = check.data?.revision === draft.revision ? check.data.report : undefined;
  const errors = report?.diagnostics.filter((found) => found.severity === "error") ?? [];
  const warnings = report?.diagnostics.filter((found) => found.severity !== "error") ?? [];
  const failed = report?.cases.filter((one) => one.failure) ?? [];
  // What is accepted is these warnings and no others.
  const theseWarnings = warnings.map((found) => `${found.code} ${found.message}`).join("\n");
  const activate = useMutation({
    mutationFn: async () => {
      if (!(await draft.keep())) throw new Error("The draft is not kept yet: see above.");
      const accepted = warnings.map(({ code, message }) => ({ code, message }));
      const body = { version: draft.version, note: note.trim(), accepted };
      return dataOf(await api.POST("/api/v1/policy/draft/activate", { body }));
    },
    onError: (error) => {
      // Somebody was faster: what they changed is shown above, and this is put on top of it.
      if (error instanceof CallError && error.status === 412) void queries.invalidateQueries({ queryKey: ["editions"] });
    },
    onSuccess: async ({ number, replaces }) => {
      await renewDraft(draft);
      setNote("");
      await navigate({ to: "/policy/changes", search: { activated: number, replaced: replaces } });
    },
  });
  const stale = draft.active !== draft.madeFrom;
  const ready = report && errors.length === 0 && failed.length === 0 && !stale;
  const unaccepted = warnings.length > 0 && accepted !== theseWarnings;
  return (
    <section aria-label="Activation" className="mt-8 border-t border-ink pt-3">
      <h2 className="mb-2 font-serif text-xl">Make it the edition that decides</h2>
      {!report && <p>It is being checked.</p>}
      {stale && <p role="alert">Others changed the policy meanwhile: put your draft on top of edition {draft.active} first.</p>}
      {(errors.length > 0 || failed.length > 0) && (
        <p role="alert" className="border-l-2 border-rust bg-tint px-3 py-2">
          {[count(errors.length, "error"), count(failed.length, "failed case")].filter(Boolean).join(" and ")}: mend{" "}
          {errors.length + failed.length === 1 ? "it" : "them"} in the{" "}
          <Link
            to="/policy"
            search={
              errors[0]
                ? { file: errors[0].file, line: errors[0].line }
                : { file: failed[0]?.file ?? "", line: failed[0]?.line ?? 1 }
            }
            className="text-deep underline"
          >
            text
          </Link>
          .
        </p>
      )}
      {failed.map((one) => (
        <section key={`${one.file} ${one.line}`} aria-label={one.title} className="mt-2">
          <p>
            <span className="font-semibold text-rust">✗ failed</span> {one.title}
          </p>
          <WhatHappened instead={one.instead} why={one.why} />
        </section>
      ))}
      {ready && (
        <form
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            activate.mutate();
          }}
        >
          {warnings.length > 0 && (
            <fieldset className="border-l-2 border-ochre px-3">
              <legend className="font-semibold">{count(warnings.length, "warning")}</legend>
              <ul className="list-disc pl-5">
                {warnings.map((found) => (
                  <li key={`${found.file} ${found.line} ${found.code} ${found.message}`}>
                    {found.code}: {found.message}{" "}
                    <Link to="/policy" search={{ file: found.file, line: found.line }} className="text-deep underline">
                      {found.file}, line {found.line}
                    </Link>
                  </li>
                ))}
              </ul>
              <label className="mt-1 block">
                <input
                  type="checkbox"
                  className="mr-2"
                  checked={accepted === theseWarnings}
                  onChange={(event) => setAccepted(event.target.checked ? theseWarnings : "")}
                />
                {warnings.length === 1 ? "It is meant so" : "They are meant so"}
              </label>
            </fieldset>
          )}
          <label>
            Why
            <textarea
              className={BOX}
              rows={2}
              value={note}
              maxLength={LONGEST_NOTE}
              onChange={(event) => setNote(event.target.value)}
            />
            <span className="block text-sm text-soft">For those who read the list of editions later.</span>
          </label>
          <Refused error={activate.error} />
          <p className="flex items-baseline gap-6">
            <button
              type="submit"
              disabled={activate.isPending || unaccepted || note.trim() === ""}
              className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper disabled:cursor-default disabled:opacity-50"
            >
              Activate
            </button>
            <span className="text-sm text-soft">
              {unaccepted ? "Say whether the warnings are meant so. " : ""}
              {note.trim() === "" ? "Say why." : ""}
            </span>
          </p>
        </form>
      )}
      <div className="mt-4">
        <Discard draft={draft} />
      </div>
    </section>
  );
}

function Discard({ draft }: { draft: Draft }) {
  const discard = useMutation({ mutationFn: () => draft.forget() });
  return (
    <Confirm
      action="Discard the draft"
      title="Discard your draft?"
      keep="Keep it"
      confirm="Discard it"
      error={discard.error}
      busy={discard.isPending}
      act={() => discard.mutate()}
    >
      All that it changes of edition {draft.active} is gone then.
    </Confirm>
  );
}

function count(number: number, what: string): string {
  return number === 0 ? "" : `${number} ${what}${number === 1 ? "" : "s"}`;
}
