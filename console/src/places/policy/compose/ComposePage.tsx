import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { api, dataOf } from "../../../api/client";
import { Refused } from "../../../parts/Refused";
import { Views } from "../../../parts/Views";
import { useRole } from "../../../queries";
import type { Draft } from "../draft/draft";
import { WithDraft } from "../draft/WithDraft";
import { type Act, act } from "../gates/act";
import { AclForm } from "./AclForm";
import { GrantForm } from "./GrantForm";
import { Growing } from "./Growing";
import { RuleForm } from "./RuleForm";
import { offeredOf } from "./writ";

const KINDS = ["rule", "exception", "grant", "access list"] as const;
type Kind = (typeof KINDS)[number];

/** What was put together: its text, where it belongs, and what it is called. */
export interface Composed {
  act: Act;
  text: string;
  /** Where it is found in the text afterwards. */
  anchor: string;
  /** What is missing yet. */
  missing: string;
}

/** A rule, an exception, a grant or an access list, put together from choices. */
export function ComposePage() {
  return <WithDraft title="Compose">{(draft) => <Composer draft={draft} />}</WithDraft>;
}

function Composer({ draft }: { draft: Draft }) {
  const { gate, entry } = useSearch({ from: "/inside/policy/compose" });
  const [kind, setKind] = useState<Kind>("rule");
  const [composed, setComposed] = useState<Composed | null>(null);
  const [error, setError] = useState<Error | null>(null);
  const navigate = useNavigate();
  const mayChange = useRole() === "engineer";
  const request = useQuery({
    queryKey: ["case of", entry],
    enabled: entry !== undefined,
    queryFn: async () => {
      const params = { params: { path: { id: entry ?? "" } } };
      const [{ facts }, detail] = await Promise.all([
        api.GET("/api/v1/journal/{id}/facts", params).then(dataOf),
        api.GET("/api/v1/journal/{id}", params).then(dataOf),
      ]);
      return { offered: offeredOf(facts), gate: detail.entry.gate ?? undefined };
    },
  });
  const insert = async () => {
    if (!composed) return;
    try {
      await act(draft, composed.act);
      await navigate({ to: "/policy", hash: composed.anchor });
    } catch (refused) {
      setError(refused instanceof Error ? refused : new Error(String(refused)));
    }
  };
  if (entry !== undefined && request.isPending) return null;
  return (
    <>
      <div className="mb-4 flex items-baseline gap-6">
        <h2 className="font-serif text-xl">Compose a</h2>
        <Views views={KINDS} shown={kind} show={setKind} />
      </div>
      {entry && (
        <p className="mb-3 text-soft">
          From{" "}
          <Link to="/journal/$id" params={{ id: entry }} className="text-deep underline">
            this decision
          </Link>
          {request.error ? `: ${request.error.message}` : ": its facts are offered as conditions; choose those that count."}
        </p>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)_20rem] gap-8">
        {(kind === "rule" || kind === "exception") && (
          <RuleForm
            key={kind}
            draft={draft}
            exception={kind === "exception"}
            gate={gate ?? request.data?.gate}
            offered={request.data?.offered ?? []}
            change={setComposed}
          />
        )}
        {kind === "grant" && <GrantForm draft={draft} change={setComposed} />}
        {kind === "access list" && <AclForm change={setComposed} />}
        <div className="sticky top-6 self-start">
          {composed && <Growing draft={draft} composed={composed} />}
          <Refused error={error} />
          {mayChange && composed && (
            <button
              type="button"
              disabled={composed.missing !== ""}
              onClick={() => void insert()}
              className="mt-3 cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper disabled:cursor-default disabled:opacity-50"
            >
              Put it into the draft
            </button>
          )}
        </div>
      </div>
    </>
  );
}
