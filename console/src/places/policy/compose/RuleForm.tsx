import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, dataOf } from "../../../api/client";
import { BOX, ChoiceField, Field, FieldGroup, TextField } from "../../../parts/Field";
import type { Draft } from "../draft/draft";
import type { Composed } from "./ComposePage";
import { ConditionRow } from "./ConditionRow";
import { useOffers, WHEN } from "./offers";
import { needsValue, type Offered, type Row, ruleText, rowText } from "./writ";

/** A comparison and what tells it from others while its parts change. */
interface Kept {
  id: number;
  row: Row;
  /** Whether it is shown without being asked for. */
  first: boolean;
  counts: boolean;
}

const EMPTY: Row = { fact: "", type: "", test: "is", value: "" };
const OUTCOMES = ["grant", "refuse", "silence"] as const;

/** A rule from choices; an exception is one that ends by itself. */
export function RuleForm(props: {
  draft: Draft;
  exception: boolean;
  gate: string | undefined;
  offered: readonly Offered[];
  change: (composed: Composed) => void;
}) {
  const { draft, exception, offered, change } = props;
  const gates = useQuery({
    queryKey: ["gates to compose in", draft.revision],
    queryFn: async () => dataOf(await api.POST("/api/v1/policy/outline", { body: draft.body() })).items,
  });
  const names = gates.data?.filter((item) => item.kind === "gate").map((item) => item.name) ?? [];
  const grants = gates.data?.filter((item) => item.kind === "grant").map((item) => item.name) ?? [];
  const [chosen, setChosen] = useState(props.gate ?? "");
  const gate = chosen || names[0] || "";
  const rules = gates.data?.filter((item) => item.kind === "rule" && item.gate === gate).map((item) => item.name) ?? [];
  const [title, setTitle] = useState("");
  const [rows, setRows] = useState<Kept[]>(() =>
    offered.length > 0
      ? offered.map(({ row, first }, id) => ({ id, row, first, counts: false }))
      : [{ id: 0, row: EMPTY, first: true, counts: true }],
  );
  const [all, setAll] = useState(true);
  const [what, setWhat] = useState<(typeof OUTCOMES)[number]>("grant");
  const [given, setGiven] = useState<string[]>([]);
  const [text, setText] = useState("");
  const [before, setBefore] = useState<string>();
  const [until, setUntil] = useState("");
  const table = useQuery({
    queryKey: ["rules to be tried after", draft.revision, gate],
    enabled: exception && gate !== "",
    queryFn: async () => dataOf(await api.POST("/api/v1/policy/gates", { body: { ...draft.body(), gate } })).shown?.rules ?? [],
  });
  // An exception that is tried after the rule that it is an exception from decides nothing. What always refuses does.
  const first = exception ? (table.data?.find((rule) => !rule.always)?.title ?? "") : "";
  // Another gate has other rules.
  const place = before !== undefined && (before === "" || rules.includes(before)) ? before : first;
  const facts = useOffers(draft, WHEN);

  const [every, setEvery] = useState(false);
  const shown = rows.filter((one) => every || one.first || one.counts);
  const counted = rows.filter((one) => one.counts).map((one) => one.row);
  const result = what === "grant" ? { what, grants: given } : what === "refuse" ? { what, text } : ({ what: "silence" } as const);
  const written = ruleText({ title, rows: counted, all, result, from: "", until: until ? moment(until) : "" });
  const missing = [
    title.trim() === "" && "a title",
    (counted.length === 0 || counted.some((row) => row.fact === "" || (needsValue(row.test) && row.value.trim() === ""))) &&
      "a condition",
    what === "grant" && given.length === 0 && "what is given",
    exception && until === "" && "until when it counts",
  ].filter(Boolean);
  const told = missing.length > 0 ? `It needs ${missing.join(", ")}.` : "";
  useEffect(() => {
    const act = { do: "put-rule" as const, gate, before: place || null, text: written };
    change({ act, text: written, anchor: `rule ${gate} ${title}`, missing: told });
  }, [gate, place, written, title, told, change]);

  const put = (id: number, some: Partial<Kept>) =>
    setRows((list) => list.map((one) => (one.id === id ? { ...one, ...some } : one)));
  return (
    <form className="grid gap-4" onSubmit={(event) => event.preventDefault()}>
      <TextField label="Title" name="title" help="What it is for, as people would say it." value={title} change={setTitle} />
      <ChoiceField
        label="Gate"
        name="gate"
        help="The kind of request that it is about."
        value={gate}
        choices={names}
        change={setChosen}
      />
      <Field label="When" help="Facts of the request, of whoever was proved, of the device and of the equipment.">
        <fieldset className="grid min-w-0 gap-2">
          <legend className="sr-only">Conditions</legend>
          {shown.map(({ id, row, counts }) => (
            <div key={id} className="flex min-w-0 items-center gap-2">
              {offered.length > 0 && (
                <input
                  type="checkbox"
                  aria-label={`${row.fact ? rowText(row) : "this condition"} counts`}
                  checked={counts}
                  onChange={(event) => put(id, { counts: event.target.checked })}
                />
              )}
              <ConditionRow
                draft={draft}
                row={row}
                facts={facts.data ?? []}
                change={(row) => put(id, { row, counts: true })}
                remove={rows.length > 1 ? () => setRows((list) => list.filter((one) => one.id !== id)) : undefined}
              />
            </div>
          ))}
        </fieldset>
        <span className="mt-1 flex gap-5">
          <button
            type="button"
            className="cursor-pointer text-deep hover:underline"
            onClick={() =>
              setRows((list) => [
                ...list,
                { id: Math.max(...list.map((one) => one.id)) + 1, row: EMPTY, first: true, counts: true },
              ])
            }
          >
            Add a condition
          </button>
          {shown.length < rows.length && (
            <button type="button" className="cursor-pointer text-deep hover:underline" onClick={() => setEvery(true)}>
              All {rows.length} facts of the request
            </button>
          )}
          {counted.length > 1 && (
            <label>
              <select value={all ? "all" : "any"} onChange={(event) => setAll(event.target.value === "all")}>
                <option value="all">all of them hold</option>
                <option value="any">one of them holds</option>
              </select>
            </label>
          )}
        </span>
      </Field>
      <ChoiceField
        label="Then"
        name="then"
        help=""
        value={what}
        choices={OUTCOMES}
        change={(value) => setWhat(OUTCOMES.find((one) => one === value) ?? "grant")}
      />
      {what === "grant" && (
        <FieldGroup label="Grants" help="What is given; several are sent together.">
          <span className="flex flex-wrap gap-x-5 gap-y-1">
            {grants.map((name) => (
              <label key={name}>
                <input
                  type="checkbox"
                  className="mr-2"
                  checked={given.includes(name)}
                  onChange={(event) => setGiven(event.target.checked ? [...given, name] : given.filter((one) => one !== name))}
                />
                {name}
              </label>
            ))}
          </span>
        </FieldGroup>
      )}
      {what === "refuse" && (
        <TextField
          label="Text"
          name="text"
          help="For the person, where the way in can carry one."
          value={text}
          change={setText}
        />
      )}
      <Field
        label={exception ? "Ends" : "Until"}
        help={exception ? "It ends by itself then, by the clock of this machine." : "Empty: until it is removed."}
      >
        <input
          type="datetime-local"
          className={BOX}
          aria-label="Until"
          value={until}
          onChange={(event) => setUntil(event.target.value)}
        />
      </Field>
      <Field label="Tried before" help="The first rule that is true decides.">
        <select className={BOX} aria-label="Tried before" value={place} onChange={(event) => setBefore(event.target.value)}>
          <option value="">(after all others)</option>
          {rules.map((rule) => (
            <option key={rule}>{rule}</option>
          ))}
        </select>
      </Field>
    </form>
  );
}

/** A moment of this machine's clock, as Writ writes it. */
function moment(local: string): string {
  return `${new Date(local).toISOString().slice(0, 16)}Z`;
}
