import { type FormEvent, useState } from "react";
import { api, dataOf } from "../../../api/client";
import { BOX } from "../../../parts/Field";
import { FormEnd } from "../../../parts/FormEnd";
import { Question } from "../../../parts/Question";
import type { Draft } from "../draft/draft";
import type { Place } from "../writ/places";
import type { ChangedText } from "./help";

/** A place where something is named, and its name; empty where the policy names nothing there. */
export type Renamed = Place & { file: string; name: string };

/** Asks for another name for what stands at a place, in all files. */
export function RenameName(props: {
  draft: Draft;
  renamed: Renamed;
  close: () => void;
  apply: (changes: ChangedText[]) => void;
}) {
  const { draft, renamed, close, apply } = props;
  const [name, setName] = useState(renamed.name);
  const [error, setError] = useState<Error | null>(null);
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    const { file, line, column } = renamed;
    try {
      const body = { place: { ...draft.body(), file, line, column }, name };
      apply(dataOf(await api.POST("/api/v1/policy/rename", { body })).changes);
    } catch (refused) {
      setError(refused instanceof Error ? refused : new Error(String(refused)));
    }
  };
  return (
    <Question
      title={renamed.name === "" ? "Nothing that the policy gives a name stands here" : `Another name for ${renamed.name}`}
      close={close}
    >
      {renamed.name === "" ? (
        <p>Put the cursor on a grant, list, access list, named condition, gate or rule.</p>
      ) : (
        <form onSubmit={(event) => void submit(event)}>
          <label>
            Name, in all files
            <input className={BOX} value={name} onChange={(event) => setName(event.target.value)} />
          </label>
          <FormEnd act="Rename it" busy={false} error={error} cancel={close} />
        </form>
      )}
    </Question>
  );
}
