import { useQuery } from "@tanstack/react-query";
import { api, dataOf } from "../../api/client";
import { BOX, Field, TextField } from "../../parts/Field";
import { MOST } from "../../queries";
import { DirectoryFields } from "./DirectoryFields";
import { HttpFields } from "./HttpFields";
import type { Draft } from "./outside";

/** The fields of a store outside. */
export function OutsideFields(props: { draft: Draft; isNew: boolean; change: (draft: Draft) => void }) {
  const { draft, isNew } = props;
  const set = (part: Partial<Draft>) => props.change({ ...draft, ...part });
  const isDirectory = draft.kind === "directory";
  const trusts = useQuery({
    queryKey: ["trusts"],
    queryFn: async () => dataOf(await api.GET("/api/v1/trusts", { params: { query: { limit: MOST } } })),
  });
  return (
    <div className="grid gap-4">
      {isNew && (
        <TextField
          label="Name"
          help={
            isDirectory
              ? "As policies name it in identify and lookup, such as tarn-directory."
              : "As policies name it in lookup, such as asset-register."
          }
          name="name"
          value={draft.name}
          change={(name) => set({ name })}
        />
      )}
      {isDirectory ? <DirectoryFields draft={draft} isNew={isNew} set={set} /> : <HttpFields draft={draft} set={set} />}
      <TextField
        label={isDirectory ? "Password of the account that searches" : "Secret"}
        help={isNew ? "Kept sealed, and shown to nobody." : "Left empty, it stays, as long as it goes to nobody else."}
        name="secret"
        type="password"
        value={draft.secret}
        change={(secret) => set({ secret })}
      />
      <Field label="Trust" help="Whose authorities issued the servers' certificates. Certificates has more of them.">
        <select name="trust" value={draft.trust} onChange={(event) => set({ trust: event.target.value })} className={BOX}>
          <option value="">the system's authorities</option>
          {trusts.data?.trusts.map((trust) => (
            <option key={trust.name} value={trust.name}>
              {trust.name}
            </option>
          ))}
        </select>
      </Field>
      <Field
        label="Facts"
        help={
          isDirectory
            ? "One in a line, each with the attribute that holds it: user.department=departmentNumber. Devices, Attributes declares them."
            : "One in a line, each with where it stands in an answer (JSON Pointer): machine.compliant=/state/compliant. Devices, Attributes declares them."
        }
      >
        <textarea
          name="facts"
          rows={3}
          value={draft.facts}
          onChange={(event) => set({ facts: event.target.value })}
          className={BOX}
        />
      </Field>
      <TextField
        label="Realms"
        help="The realms and domains that it answers for, such as example.org and EXAMPLE\; all where it is empty."
        name="realms"
        value={draft.realms}
        change={(realms) => set({ realms })}
      />
      <TextField
        label="Time limit"
        help="How many seconds an answer is waited for, 1 to 30."
        name="time-limit"
        value={draft.timeLimit}
        change={(timeLimit) => set({ timeLimit })}
      />
      <TextField
        label="Keep"
        help="For how many seconds what it told is kept, at most 3600. A password is asked for each time."
        name="keep"
        value={draft.keep}
        change={(keep) => set({ keep })}
      />
    </div>
  );
}
