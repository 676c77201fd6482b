import { useId } from "react";
import type { Draft } from "../draft/draft";
import { type Offer, useOffers, WHEN } from "./offers";
import { needsValue, type Row, type Test, testsOf } from "./writ";

const BOX = "rounded-sm border border-soft bg-sheet px-2 py-0.5";

/** A fact, a test and a value, each chosen from what there is. */
export function ConditionRow(props: {
  draft: Draft;
  row: Row;
  facts: readonly Offer[];
  change: (row: Row) => void;
  remove: (() => void) | undefined;
}) {
  const { draft, row, facts, change } = props;
  const ids = { facts: useId(), values: useId() };
  const known = facts.find((offer) => offer.kind === "fact" && offer.text === row.fact);
  const type = known ? known.detail.slice(known.text.length + 2) : row.type;
  const tests = testsOf(row.fact, type);
  const values = useOffers(draft, row.fact && needsValue(row.test) ? asked(row) : null);
  const named = (fact: string) => {
    const offer = facts.find((one) => one.kind === "fact" && one.text === fact);
    const type = offer ? offer.detail.slice(offer.text.length + 2) : "";
    const [first = "is"] = testsOf(fact, type);
    change({
      fact,
      type,
      test: testsOf(fact, type).includes(row.test) ? row.test : first,
      value: fact === row.fact ? row.value : "",
    });
  };
  return (
    <div className="flex min-w-0 flex-1 items-center gap-2">
      <input
        aria-label="Fact"
        list={ids.facts}
        placeholder="device.groups"
        className={`${BOX} w-44`}
        value={row.fact}
        onChange={(event) => named(event.target.value)}
      />
      <datalist id={ids.facts}>
        {facts
          .filter((offer) => offer.kind === "fact")
          .map((offer) => (
            <option key={offer.text} value={offer.text} />
          ))}
      </datalist>
      <select
        aria-label="Test"
        className={`${BOX} w-28`}
        value={row.test}
        onChange={(event) => change({ ...row, type, test: event.target.value as Test })}
      >
        {(tests.includes(row.test) ? tests : [row.test, ...tests]).map((test) => (
          <option key={test}>{test}</option>
        ))}
      </select>
      {needsValue(row.test) && (
        <input
          aria-label="Value"
          list={ids.values}
          className={`${BOX} min-w-0 flex-1`}
          value={row.value}
          onChange={(event) => change({ ...row, type, value: event.target.value })}
        />
      )}
      <datalist id={ids.values}>
        {values.data
          ?.filter((offer) => offer.kind === "value" || offer.kind === "name")
          .map((offer) => (
            <option key={offer.text} value={offer.text} />
          ))}
      </datalist>
      {props.remove && (
        <button type="button" className="cursor-pointer text-rust hover:underline" onClick={props.remove}>
          Remove
        </button>
      )}
    </div>
  );
}

/** Where the value of a comparison stands. */
function asked({ fact, test }: Row): string {
  const who = fact.replace(/\.groups$/, "");
  const before: Partial<Record<Test, string>> = {
    "is in group": `${who} in group `,
    "is not in group": `${who} in group `,
    "is in": `${fact} in `,
    "is one of": `${fact} in { `,
    "has in it": `${fact} contains `,
  };
  return WHEN + (before[test] ?? `${fact} = `);
}
