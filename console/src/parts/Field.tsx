import { type ReactNode, useId } from "react";

export const BOX = "w-full rounded-sm border border-soft bg-sheet px-3 py-1";

/** A field of a form, with help below it. */
export function Field({ label, help, children }: { label: string; help: string; children: ReactNode }) {
  return (
    <label className="grid grid-cols-[9rem_minmax(0,1fr)] items-start gap-x-4">
      <span className="pt-1 font-semibold">{label}</span>
      <span>
        {children}
        <span className="block text-sm text-soft">{help}</span>
      </span>
    </label>
  );
}

/** The same of several things to choose from: a click on the label or the help chooses none of them. */
export function FieldGroup({ label, help, children }: { label: string; help: string; children: ReactNode }) {
  return (
    <fieldset className="grid grid-cols-[9rem_minmax(0,1fr)] items-start gap-x-4">
      <legend className="float-left pt-1 font-semibold">{label}</legend>
      <span>
        {children}
        <span className="block text-sm text-soft">{help}</span>
      </span>
    </fieldset>
  );
}

/** A line of text in a form. */
export function TextField(props: {
  label: string;
  help: string;
  name: string;
  value: string;
  type?: "text" | "password";
  /** What may be meant, offered while it is typed. */
  offers?: string[];
  change: (value: string) => void;
}) {
  const list = useId();
  return (
    <Field label={props.label} help={props.help}>
      {props.offers && (
        <datalist id={list}>
          {props.offers.map((offer) => (
            <option key={offer} value={offer} />
          ))}
        </datalist>
      )}
      <input
        name={props.name}
        list={props.offers && list}
        type={props.type ?? "text"}
        autoComplete={props.type === "password" ? "new-password" : "off"}
        value={props.value}
        onChange={(event) => props.change(event.target.value)}
        className={BOX}
      />
    </Field>
  );
}

/** One of several, in a form. */
export function ChoiceField(props: {
  label: string;
  help: string;
  name: string;
  value: string;
  choices: readonly string[];
  change: (value: string) => void;
}) {
  return (
    <Field label={props.label} help={props.help}>
      <select name={props.name} value={props.value} onChange={(event) => props.change(event.target.value)} className={BOX}>
        {props.choices.map((choice) => (
          <option key={choice} value={choice}>
            {choice || "(none)"}
          </option>
        ))}
      </select>
    </Field>
  );
}

/** Something that is so or not, in a form. */
export function Check(props: { label: string; help: string; checked: boolean; change: (checked: boolean) => void }) {
  return (
    <label className="grid grid-cols-[9rem_1fr] items-baseline gap-x-4">
      <span />
      <span>
        <input
          type="checkbox"
          checked={props.checked}
          onChange={(event) => props.change(event.target.checked)}
          className="mr-2"
        />
        {props.label}
        <span className="block text-sm text-soft">{props.help}</span>
      </span>
    </label>
  );
}
