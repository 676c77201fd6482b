import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { api, dataOf } from "../../../api/client";
import type { components } from "../../../api/schema";
import { BOX } from "../../../parts/Field";
import { Refused } from "../../../parts/Refused";
import { useRole } from "../../../queries";
import type { Draft } from "../draft/draft";
import { useRested } from "../draft/useRested";
import { useDraftChanges } from "../draft/useDraft";
import { WithDraft } from "../draft/WithDraft";
import { act } from "../gates/act";
import { Answers } from "./Answers";
import { caseText } from "./caseText";
import { FactPicker } from "./FactPicker";

type Answer = components["schemas"]["AnswerView"];

/** What the draft and the active edition come to with some facts, side by side. */
export function WhatIfPage() {
  return <WithDraft title="What if">{(draft) => <WhatIf draft={draft} />}</WithDraft>;
}

function WhatIf({ draft }: { draft: Draft }) {
  const { entry, facts: linked } = useSearch({ from: "/inside/policy/what-if" });
  const navigate = useNavigate();
  const [facts, setFacts] = useState(linked ?? "");
  const revision = useRested(useDraftChanges(draft));
  const rested = useRested(facts);
  const isDraft = draft.kept.state !== "same";
  const asked = entry !== undefined || rested.trim() !== "";
  const tried = useQuery({
    queryKey: ["what if", entry, rested, revision, draft.active],
    enabled: asked,
    queryFn: async () => {
      const policies = [{ edition: draft.active }, ...(isDraft ? [{ files: draft.body() }] : [])];
      return dataOf(await api.POST("/api/v1/policy/what-if", { body: { policies, entry: entry ?? null, facts: rested } }));
    },
    placeholderData: keepPreviousData,
    gcTime: 1_000,
  });
  return (
    <>
      <p className="mb-3 font-serif text-[17px]">
        {entry ? (
          <>
            The facts of{" "}
            <Link to="/journal/$id" params={{ id: entry }} className="text-deep underline">
              this decision
            </Link>{" "}
            are taken; what stands below takes the place of some.{" "}
            <button
              type="button"
              className="cursor-pointer font-sans text-sm text-deep hover:underline"
              onClick={() => void navigate({ to: "/policy/what-if", search: {} })}
            >
              Without it
            </button>
          </>
        ) : (
          "Say what a request would be like. Whatever is not said is absent; nothing is sent, and nothing counted."
        )}
      </p>
      <FactPicker draft={draft} add={(text) => setFacts((before) => (before.trim() ? `${before.trimEnd()},\n${text}` : text))} />
      <label className="mt-3 block text-sm">
        Facts, as a case states them
        <textarea
          className={`${BOX} font-mono text-[13px]`}
          rows={Math.max(3, facts.split("\n").length)}
          placeholder={'nas.kind = switch, request.purpose = network,\nuser.proved = true, user.groups = { "staff" }'}
          value={facts}
          onChange={(event) => setFacts(event.target.value)}
          spellCheck={false}
        />
      </label>
      {asked && tried.error && <Refused error={tried.error} />}
      {asked && tried.data && !tried.error && (
        <section aria-label="What they come to" className="mt-4">
          {tried.data.note && <p className="mb-2 border-l-2 border-ochre px-3">{tried.data.note}</p>}
          <p role="status" className="mb-2 font-semibold">
            {verdict(tried.data.answers, tried.data.same, isDraft)}
          </p>
          <Answers answers={tried.data.answers} names={[`edition ${draft.active}`, "your draft"]} />
          <KeepCase draft={draft} answers={tried.data.answers} facts={rested} entry={entry} />
        </section>
      )}
    </>
  );
}

function verdict(answers: readonly Answer[], same: boolean, isDraft: boolean): string {
  if (!isDraft) return "There is no draft: this is what the edition that decides comes to.";
  if (answers.some((answer) => answer.report)) return "The draft has errors, so that it comes to nothing.";
  return same ? "Both come to the same." : "They come to different things.";
}

/** Keeps what was tried as a case of the draft. */
function KeepCase(props: { draft: Draft; answers: readonly Answer[]; facts: string; entry: string | undefined }) {
  const { draft, answers, facts, entry } = props;
  const navigate = useNavigate();
  const [error, setError] = useState<Error | null>(null);
  const [title, setTitle] = useState("");
  const mayChange = useRole() === "engineer";
  const answer = answers.at(-1);
  if (!mayChange || !answer || answer.report) return null;
  const keep = async () => {
    try {
      await act(draft, { do: "put", text: caseText(title, facts, answer) });
      await navigate({ to: "/policy", hash: `case ${title}` });
    } catch (refused) {
      setError(refused instanceof Error ? refused : new Error(String(refused)));
    }
  };
  if (entry) {
    return (
      <p className="mt-4">
        <Link to="/policy" search={{ keep: entry }} className="text-deep underline">
          Keep the decision as a case
        </Link>
      </p>
    );
  }
  return (
    <form
      className="mt-4 flex items-end gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        void keep();
      }}
    >
      <label className="w-96 text-sm">
        Keep it as a case of this title
        <input className={BOX} value={title} onChange={(event) => setTitle(event.target.value)} />
      </label>
      <button
        type="submit"
        disabled={title.trim() === ""}
        className="cursor-pointer rounded-sm bg-deep px-3 py-1 text-paper disabled:cursor-default disabled:opacity-50"
      >
        Keep it
      </button>
      <Refused error={error} />
    </form>
  );
}
