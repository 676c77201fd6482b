import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Notice } from "../../../parts/Notice";
import { session } from "../../../queries";
import { PolicyHead } from "../PolicyHead";
import type { Draft } from "./draft";
import { useActiveSeen, useDraft, useKeptAtTheEnd } from "./useDraft";

/** A page of the draft of whoever is signed in. */
export function WithDraft({ title, children }: { title: string; children: (draft: Draft) => ReactNode }) {
  const { data: signed } = useQuery(session);
  const draft = useDraft(signed?.name ?? "");
  if (draft.error) return <Notice title="The policy cannot be shown" text={draft.error.message} />;
  if (!draft.data) return null;
  return (
    <>
      <title>{`${title} · Regnant`}</title>
      <PolicyHead draft={draft.data} />
      <Kept draft={draft.data} />
      {children(draft.data)}
    </>
  );
}

function Kept({ draft }: { draft: Draft }) {
  useKeptAtTheEnd(draft);
  useActiveSeen(draft);
  return null;
}
