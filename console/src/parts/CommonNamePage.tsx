import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, type ReactNode, useState } from "react";
import { Confirm } from "./Confirm";
import { Facts } from "./Facts";
import { BOX, Field } from "./Field";
import { Past } from "./Past";
import { FormEnd } from "./FormEnd";
import { Rename } from "./Rename";
import { recordPath } from "./records";
import { useRole } from "../queries";

/** A group or a site: what people should know, who has it, where the policy names it, its past. */
export function CommonNamePage(props: {
  what: "group" | "site";
  name: string;
  note: string;
  named: string[];
  had: ReactNode;
  isHad: boolean;
  follows: string;
  back: ReactNode;
  setNote: (note: string) => Promise<void>;
  rename: (name: string, anyway: boolean) => Promise<void>;
  remove: (anyway: boolean) => Promise<void>;
  goTo: (name: string) => Promise<void>;
  leave: () => Promise<void>;
}) {
  const { what, name, named } = props;
  const role = useRole();
  const queries = useQueryClient();
  const [editing, setEditing] = useState(false);
  const removed = useMutation({
    mutationFn: () => props.remove(true),
    onSuccess: async () => {
      await props.leave();
      await queries.invalidateQueries();
    },
  });
  return (
    <article className="max-w-4xl">
      <title>{`${name} · Regnant`}</title>
      <p className="text-soft">{props.back}</p>
      <h1 className="mt-2 mb-6 font-serif text-2xl">{name}</h1>
      {editing ? (
        <Note note={props.note} set={props.setNote} close={() => setEditing(false)} />
      ) : (
        <Facts
          rows={[
            ["note", props.note],
            [what === "group" ? "in it" : "stands there", props.had],
            ["named by the policy", named.length > 0 ? named.join("; ") : "nowhere"],
          ]}
        />
      )}
      {role === "engineer" && !editing && (
        <p className="mt-6 flex items-baseline gap-6">
          <button
            type="button"
            onClick={() => setEditing(true)}
            className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper"
          >
            Change the note
          </button>
          <Rename
            what={what}
            name={name}
            named={named}
            follows={props.follows}
            rename={async (to, anyway) => {
              await props.rename(to, anyway);
              await props.goTo(to);
              await queries.invalidateQueries();
            }}
          />
          <Confirm
            action="Remove"
            title={`Remove the ${what} ${name}?`}
            keep="Keep it"
            confirm="Remove it"
            error={removed.error}
            busy={removed.isPending}
            act={() => removed.mutate()}
          >
            <p>
              {props.isHad
                ? what === "group"
                  ? "Everybody and everything in it leaves it."
                  : "What stands there stands nowhere then."
                : `Nothing has it.`}
            </p>
            {named.length > 0 && (
              <p className="mt-2 border-l-2 border-rust bg-tint px-3 py-2">
                The active policy names it ({named.join("; ")}): these comparisons are then true of nobody, until you change the
                policy.
              </p>
            )}
          </Confirm>
        </p>
      )}
      <Past record={recordPath(what, name)} />
    </article>
  );
}

function Note(props: { note: string; set: (note: string) => Promise<void>; close: () => void }) {
  const [note, setNote] = useState(props.note);
  const queries = useQueryClient();
  const changed = useMutation({
    mutationFn: () => props.set(note.trim()),
    onSuccess: async () => {
      await queries.invalidateQueries();
      props.close();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    changed.mutate();
  };
  return (
    <form onSubmit={submit} className="grid max-w-2xl gap-4">
      <Field label="Note" help="What people should know.">
        <textarea name="note" rows={3} value={note} onChange={(event) => setNote(event.target.value)} className={BOX} />
      </Field>
      <FormEnd act="Save" busy={changed.isPending} error={changed.error} cancel={props.close} />
    </form>
  );
}
