import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { api, dataOf, type Entry } from "../../../api/client";
import { Confirm } from "../../../parts/Confirm";
import { BOX } from "../../../parts/Field";
import { merge } from "../../journal/entries";
import { Row } from "../../journal/Row";
import { useJournal } from "../../journal/useJournal";
import { useLive } from "../../journal/useLive";
import type { Draft } from "../draft/draft";
import { renewDraft } from "../draft/useDraft";

/** Decisions that are shown of a new edition. */
const SHOWN = 20;

/** What a new edition decided first, as it comes, and the way back. */
export function FirstDecisions({ number, replaced, draft }: { number: number; replaced: number; draft: Draft }) {
  const journal = useJournal({});
  const [live, setLive] = useState<Entry[]>([]);
  const connected = useLive(
    {},
    (entry) => setLive((known) => (entry.edition === number ? merge(known, [entry]).slice(0, 500) : known)),
    () => void journal.refetch(),
  );
  const before = (journal.data?.pages.flat() ?? []).filter((entry) => entry.edition === number);
  const decided = merge(before, live);
  const counts = ["granted", "observed", "refused", "silence"].map((outcome) => {
    return [outcome, decided.filter((entry) => entry.outcome === outcome).length] as const;
  });
  const said = counts.filter(([, many]) => many > 0).map(([outcome, many]) => `${many} ${outcome}`);
  return (
    <section aria-label={`First decisions of edition ${number}`} className="mb-8 border-l-2 border-deep bg-tint px-4 py-3">
      <h2 className="font-serif text-xl">
        Edition {number} decides, in the place of edition {replaced}
      </h2>
      <p role="status" className="text-soft">
        {decided.length === 0
          ? "It has decided nothing yet; decisions come here as they are made."
          : `So far: ${said.join(", ")}.`}
        {!connected && " The line to the service is interrupted."}
      </p>
      {decided.length > 0 && (
        <ol aria-label="First decisions" className="my-2">
          {decided.slice(0, SHOWN).map((entry) => (
            <Row key={entry.id} entry={entry} />
          ))}
        </ol>
      )}
      <TakeBack key={number} number={number} replaced={replaced} draft={draft} />
    </section>
  );
}

function TakeBack({ number, replaced, draft }: { number: number; replaced: number; draft: Draft }) {
  const [note, setNote] = useState(`Edition ${number} is taken back`);
  const navigate = useNavigate();
  const back = useMutation({
    mutationFn: async () => {
      const params = { header: { "If-Match": `"${number}"` } };
      return dataOf(await api.POST("/api/v1/policy/rollback", { params, body: { number: replaced, note } }));
    },
    onSuccess: async (done) => {
      // A draft that was begun since stays one.
      if (draft.kept.state === "same") await renewDraft(draft);
      await navigate({ to: "/policy/changes", search: { activated: done.number, replaced: done.replaces } });
    },
  });
  return (
    <Confirm
      action="Take it back"
      title={`Take edition ${number} back?`}
      keep="Leave it"
      confirm="Take it back"
      error={back.error}
      busy={back.isPending}
      act={() => back.mutate()}
    >
      <p>The text of edition {replaced} decides again, as a new edition.</p>
      <label>
        Why
        <input className={BOX} value={note} onChange={(event) => setNote(event.target.value)} />
      </label>
    </Confirm>
  );
}
