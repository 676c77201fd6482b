import { useState } from "react";
import { BOX } from "../../../parts/Field";
import { GIVEN, useOffers } from "../compose/offers";
import type { Draft } from "../draft/draft";

/** Chooses a fact and its value, and adds them. */
export function FactPicker({ draft, add }: { draft: Draft; add: (text: string) => void }) {
  const [fact, setFact] = useState("");
  const [value, setValue] = useState("");
  const facts = useOffers(draft, GIVEN);
  const known = facts.data?.find((offer) => offer.text === fact);
  const isSet = known?.detail.includes("a set") ?? false;
  const values = useOffers(draft, known ? `${GIVEN}${fact} = ${isSet ? "{ " : ""}` : null);
  return (
    <form
      className="grid grid-cols-[16rem_1fr_auto] items-end gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        if (!known || value.trim() === "") return;
        add(`${fact} = ${isSet && !value.includes("{") ? `{ ${value.trim()} }` : value.trim()}`);
        setFact("");
        setValue("");
      }}
    >
      <label className="text-sm">
        Fact
        <input className={BOX} list="facts" value={fact} onChange={(event) => setFact(event.target.value)} />
        <datalist id="facts">
          {facts.data
            ?.filter((offer) => offer.kind === "fact")
            .map((offer) => (
              <option key={offer.text} value={offer.text} />
            ))}
        </datalist>
      </label>
      <label className="text-sm">
        Value {known && <span className="text-soft">{known.detail.slice(known.text.length + 2)}</span>}
        <input className={BOX} list="values" value={value} onChange={(event) => setValue(event.target.value)} />
        <datalist id="values">
          {values.data
            ?.filter((offer) => offer.kind === "value")
            .map((offer) => (
              <option key={offer.text} value={offer.text} />
            ))}
        </datalist>
      </label>
      <button type="submit" className="cursor-pointer rounded-sm bg-deep px-3 py-1 text-paper">
        Add
      </button>
    </form>
  );
}
