import { BOX, Check, Field, TextField } from "../../parts/Field";
import type { AccountDraft } from "./people";

/** The fields of a person or a machine, with help at each. */
export function AccountFields(props: {
  of: "person" | "machine";
  isNew: boolean;
  draft: AccountDraft;
  change: (draft: AccountDraft) => void;
}) {
  const { draft, change } = props;
  const isPerson = props.of === "person";
  const text = (key: "name" | "password" | "groups" | "note") => ({
    name: key,
    value: draft[key],
    change: (value: string) => change({ ...draft, [key]: value }),
  });
  const password = isPerson
    ? "At least 8 characters, and none that everybody tries first."
    : "Only where a method wants one; certificates need none.";
  return (
    <div className="grid gap-4">
      <TextField
        label="Name"
        help={isPerson ? "The name they sign in with; case does not count." : "Without host/ before it or $ after it."}
        {...text("name")}
      />
      <TextField
        label="Password"
        type="password"
        help={props.isNew ? password : `Left empty, it stays. ${password}`}
        {...text("password")}
      />
      <TextField
        label="Groups"
        help={`${isPerson ? "user" : "machine"}.groups in policies; several with spaces between them.`}
        {...text("groups")}
      />
      <TextField label="Note" help="What people should know." {...text("note")} />
      <Field label="Expires" help="From then on nothing is proved by it any more (UTC). Left empty, never.">
        <input
          name="expires"
          type="datetime-local"
          value={draft.expires}
          onChange={(event) => change({ ...draft, expires: event.target.value })}
          className={BOX}
        />
      </Field>
      <Check
        label="Disabled"
        help="Kept out, and kept here."
        checked={draft.disabled}
        change={(disabled) => change({ ...draft, disabled })}
      />
      <Check
        label="MS-CHAP may prove it"
        help="PEAP and TEAP with EAP-MSCHAPv2 need it. What is kept for it is as good as the password to whoever has it."
        checked={draft.mschap}
        change={(mschap) => change({ ...draft, mschap })}
      />
      {isPerson && (
        <>
          <Check
            label="The password can be had back"
            help="CHAP needs it. Whoever has the records and the sealing key has the password then."
            checked={draft.recoverable}
            change={(recoverable) => change({ ...draft, recoverable })}
          />
          <Check
            label="Engineers only"
            help="The helpdesk must leave the password alone."
            checked={draft.engineersOnly}
            change={(engineersOnly) => change({ ...draft, engineersOnly, ordinary: engineersOnly ? false : draft.ordinary })}
          />
          <Check
            label="Ordinary"
            help="The helpdesk may set the password though a rule could make an administrator of whoever comes so; never where a rule asks for this person or their groups."
            checked={draft.ordinary}
            change={(ordinary) => change({ ...draft, ordinary, engineersOnly: ordinary ? false : draft.engineersOnly })}
          />
        </>
      )}
    </div>
  );
}
