import { useMutation, useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api, dataOf } from "../../../api/client";
import type { components } from "../../../api/schema";
import { ChoiceField, Field, TextField } from "../../../parts/Field";
import { FormEnd } from "../../../parts/FormEnd";
import { useRole } from "../../../queries";
import type { Draft } from "../draft/draft";
import { WithDraft } from "../draft/WithDraft";
import { Memberships } from "./Memberships";
import { groupsOf, namesOf, storesOf } from "./inventory";

type Answers = components["schemas"]["Answers"];

const NOTHING: Required<Answers> = {
  people: "",
  devices: "",
  certificate: "",
  crew: [],
  fleet: [],
  holding: null,
  watched: "",
  operators: "",
  readers: "",
  remote: "",
};

/** A first policy, from questions about what there is. */
export function BeginPage() {
  return <WithDraft title="Begin a policy">{(draft) => <Questions draft={draft} />}</WithDraft>;
}

function Questions({ draft }: { draft: Draft }) {
  const [answers, setAnswers] = useState(NOTHING);
  const [holding, setHolding] = useState("");
  const navigate = useNavigate();
  const mayChange = useRole() === "engineer";
  const known = useQuery({
    queryKey: ["inventory"],
    queryFn: async () => dataOf(await api.GET("/api/v1/policy/inventory")) as Record<string, unknown>,
  });
  const write = useMutation({
    mutationFn: async () => {
      const vlan = holding.trim() === "" ? null : Number(holding);
      return dataOf(await api.POST("/api/v1/policy/begin", { body: { ...answers, holding: vlan } }));
    },
    onSuccess: async ({ source }) => {
      draft.replace({ source, included: {} }, draft.active);
      await navigate({ to: "/policy" });
    },
  });
  const set = (some: Partial<Answers>) => setAnswers((before) => ({ ...before, ...some }));
  const inventory = known.data ?? {};
  const people = groupsOf(inventory, "user");
  const fleet = groupsOf(inventory, "mac");
  const none = (names: string[]) => ["", ...names];
  const submit = (event: FormEvent) => {
    event.preventDefault();
    write.mutate();
  };
  return (
    <form onSubmit={submit} className="grid max-w-3xl gap-4">
      <p className="font-serif text-[17px]">
        Say what there is; what is left empty is not here. A policy of only that is written as your draft, each rule with its
        case: a beginning, to be read before it decides.
      </p>
      <ChoiceField
        label="People"
        name="people"
        help="The store of people and machines."
        value={answers.people}
        choices={none(storesOf(inventory, "user"))}
        change={(value) => set({ people: value })}
      />
      {answers.people && (
        <>
          <ChoiceField
            label="Certificate"
            name="certificate"
            help="What 802.1X presents, at wired ports and over the air."
            value={answers.certificate}
            choices={none(namesOf(inventory, "certificates"))}
            change={(value) => set({ certificate: value })}
          />
          {answers.certificate && (
            <Field label="By 802.1X" help="Groups of people, and the VLAN that each gets.">
              <Memberships what="people" known={people} members={answers.crew} change={(crew) => set({ crew })} />
            </Field>
          )}
          <TextField
            label="Operators"
            name="operators"
            help="The group that administers switches, firewalls and the like."
            value={answers.operators}
            offers={people}
            change={(value) => set({ operators: value })}
          />
          <TextField
            label="Readers"
            name="readers"
            help="The group that may look at them."
            value={answers.readers}
            offers={people}
            change={(value) => set({ readers: value })}
          />
          <TextField
            label="VPN"
            name="remote"
            help="The group that comes in by VPN."
            value={answers.remote}
            offers={people}
            change={(value) => set({ remote: value })}
          />
        </>
      )}
      <ChoiceField
        label="Devices"
        name="devices"
        help="The store of devices by MAC address."
        value={answers.devices}
        choices={none(storesOf(inventory, "mac"))}
        change={(value) => set({ devices: value })}
      />
      {answers.devices && (
        <>
          <Field label="At wired ports" help="Groups of devices, and the VLAN that each gets.">
            <Memberships what="devices" known={fleet} members={answers.fleet} change={(members) => set({ fleet: members })} />
          </Field>
          <TextField
            label="Unknown devices"
            name="holding"
            help="The VLAN of devices that nobody knows. Empty: they are refused."
            value={holding}
            change={setHolding}
          />
          {holding && (
            <ChoiceField
              label="Watched"
              name="watched"
              help="A site whose wired ports are watched before they refuse."
              value={answers.watched}
              choices={none(namesOf(inventory, "sites"))}
              change={(value) => set({ watched: value })}
            />
          )}
        </>
      )}
      {draft.kept.state !== "same" && <p role="alert">It takes the place of the draft that you have.</p>}
      {mayChange && <FormEnd act="Write it as my draft" busy={write.isPending} error={write.error} />}
    </form>
  );
}
