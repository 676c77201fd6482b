import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api, dataOf } from "../../api/client";
import { ChoiceField } from "../../parts/Field";
import { FormEnd, WAY_OUT } from "../../parts/FormEnd";
import { stores } from "../people/stores";
import { DeviceFields } from "./DeviceFields";
import { changeOf, type DeviceDraft } from "./devices";

/** A form for a device that is not there yet. */
export function NewDevice() {
  const { mac = "" } = useSearch({ from: "/inside/devices/new" });
  const known = useQuery(stores);
  const names = known.data?.stores.filter((store) => store.kind === "devices").map((store) => store.name) ?? [];
  const [draft, setDraft] = useState<DeviceDraft>({
    store: "",
    mac,
    title: "",
    groups: "",
    owner: "",
    note: "",
    expires: "",
    attributes: {},
  });
  const store = draft.store || (names[0] ?? "");
  const queries = useQueryClient();
  const navigate = useNavigate();
  const added = useMutation({
    mutationFn: async () => {
      const { expires, ...rest } = changeOf(draft);
      return dataOf(await api.POST("/api/v1/devices", { body: { ...rest, store, ...(expires ? { expires } : {}) } }));
    },
    onSuccess: async (device) => {
      await queries.invalidateQueries();
      await navigate({ to: "/devices/$store/$mac", params: { store: device.store, mac: device.mac } });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    added.mutate();
  };
  return (
    <div className="max-w-2xl">
      <title>Add a device · Regnant</title>
      <h1 className="mb-6 font-serif text-2xl">Add a device</h1>
      <form onSubmit={submit} className="grid gap-4">
        {names.length !== 1 && (
          <ChoiceField
            label="Store"
            help={names.length === 0 ? "There is no store of devices yet: add one under People." : "Where policies look it up."}
            name="store"
            value={store}
            choices={names}
            change={(value) => setDraft({ ...draft, store: value })}
          />
        )}
        <DeviceFields draft={draft} change={setDraft} />
        <FormEnd act="Add" busy={added.isPending} error={added.error}>
          <Link to="/devices" className={WAY_OUT}>
            Cancel
          </Link>
        </FormEnd>
      </form>
    </div>
  );
}
