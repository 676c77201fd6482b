import { useQuery } from "@tanstack/react-query";
import { BOX, ChoiceField, Field, TextField } from "../../parts/Field";
import { type Attribute, declared, ofDevices } from "./attributes";
import type { DeviceDraft } from "./devices";

/** The fields of a device, with help at each. */
export function DeviceFields({ draft, change }: { draft: DeviceDraft; change: (draft: DeviceDraft) => void }) {
  const known = useQuery(declared);
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
      {ofDevices(known.data?.attributes ?? []).map((attribute) => (
        <AttributeField
          key={attribute.name}
          attribute={attribute}
          value={draft.attributes[attribute.name] ?? ""}
          change={(value) => change({ ...draft, attributes: { ...draft.attributes, [attribute.name]: value } })}
        />
      ))}
    </div>
  );
}

/** A field for what is declared of devices. */
function AttributeField(props: { attribute: Attribute; value: string; change: (value: string) => void }) {
  const { attribute, value, change } = props;
  const { name, type, meaning } = attribute;
  const several = type === "texts" ? "; several with ; between them" : "";
  const help = `${meaning || `device.${name} in policies`}${several} (${type}).`;
  const field = { label: name, help, name: `attribute-${name}`, value, change };
  return type === "boolean" ? <ChoiceField {...field} choices={["", "true", "false"]} /> : <TextField {...field} />;
}
