import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api, dataOf } from "../../api/client";
import { ChoiceField } from "../../parts/Field";
import { FormEnd, WAY_OUT } from "../../parts/FormEnd";
import { AccountFields } from "./AccountFields";
import { EMPTY, machineChange, personChange } from "./people";
import { stores } from "./stores";

export const NewPerson = () => <NewAccount of="person" />;
export const NewMachine = () => <NewAccount of="machine" />;

/** A form for a person or machine that is not there yet. */
function NewAccount({ of }: { of: "person" | "machine" }) {
  const known = useQuery(stores);
  const names = known.data?.stores.filter((store) => store.kind === "people").map((store) => store.name) ?? [];
  const [chosen, setChosen] = useState("");
  const [draft, setDraft] = useState(EMPTY);
  const store = chosen || (names[0] ?? "");
  const queries = useQueryClient();
  const navigate = useNavigate();
  const added = useMutation({
    mutationFn: async () => {
      const { expires, ...rest } = of === "person" ? personChange(draft) : machineChange(draft);
      const body = { ...rest, store, ...(expires ? { expires } : {}) };
      return of === "person"
        ? dataOf(await api.POST("/api/v1/people", { body: { ...body, password: draft.password } }))
        : dataOf(await api.POST("/api/v1/machines", { body }));
    },
    onSuccess: async (account) => {
      await queries.invalidateQueries();
      await navigate({
        to: of === "person" ? "/people/$store/$name" : "/machines/$store/$name",
        params: { store: account.store, name: account.name },
      });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    added.mutate();
  };
  const title = of === "person" ? "Add a person" : "Add a machine";
  return (
    <div className="max-w-2xl">
      <title>{`${title} · Regnant`}</title>
      <h1 className="mb-6 font-serif text-2xl">{title}</h1>
      <form onSubmit={submit} className="grid gap-4">
        {names.length !== 1 && (
          <ChoiceField
            label="Store"
            help={
              names.length === 0 ? "There is no store of people yet: add one under People, stores." : "Where policies look it up."
            }
            name="store"
            value={store}
            choices={names}
            change={setChosen}
          />
        )}
        <AccountFields of={of} isNew draft={draft} change={setDraft} />
        <FormEnd act="Add" busy={added.isPending} error={added.error}>
          <Link to="/people" search={of === "person" ? {} : { show: "machines" }} className={WAY_OUT}>
            Cancel
          </Link>
        </FormEnd>
      </form>
    </div>
  );
}
