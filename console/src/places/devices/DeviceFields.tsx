import { Field, BOX, TextField } from "../../parts/Field";
import type { DeviceDraft } from "./devices";

/** The fields of a device, with help at each. */
export function DeviceFields({ draft, change }: { draft: DeviceDraft; change: (draft: DeviceDraft) => void }) {
  const text = (key: "mac" | "title" | "groups" | "owner" | "note") => ({
    name: key,
    value: draft[key],
    change: (value: string) => change({ ...draft, [key]: value }),
  });
  return (
    <div className="grid gap-4">
      <TextField label="Address" help="Its MAC address, in any notation." {...text("mac")} />
      <TextField label="Title" help="What it is; the journal calls it so." {...text("title")} />
      <TextField label="Groups" help="device.groups in policies; several with spaces between them." {...text("groups")} />
      <TextField label="Owner" help="Whose it is: whom to ask." {...text("owner")} />
      <TextField label="Note" help="What people should know of it." {...text("note")} />
      <Field label="Expires" help="From then on it is not known any more (UTC). Left empty, never.">
        <input
          name="expires"
          type="datetime-local"
          value={draft.expires}
          onChange={(event) => change({ ...draft, expires: event.target.value })}
          className={BOX}
        />
      </Field>
    </div>
  );
}
