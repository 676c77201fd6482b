import { DropdownMenu } from "radix-ui";
import { type FormEvent, type KeyboardEvent, useState } from "react";
import type { components } from "../../../api/schema";
import { BOX } from "../../../parts/Field";
import { FormEnd } from "../../../parts/FormEnd";
import { Question } from "../../../parts/Question";
import type { Act } from "./act";

type Gate = components["schemas"]["GateView"];
type Asked = "copy" | "off" | "move";

const ITEM = "cursor-pointer rounded-sm px-3 py-1 outline-none data-highlighted:bg-tint data-disabled:text-soft";

/** What can be done to a rule; each is a change of the draft's text. */
export function RuleMenu({ gate, index, act }: { gate: Gate; index: number; act: (what: Act, said: string) => Promise<void> }) {
  const [asked, setAsked] = useState<Asked | null>(null);
  const rule = gate.rules[index];
  if (!rule) return null;
  const of = { gate: gate.name, rule: rule.title };
  const above = gate.rules[index - 1];
  const below = gate.rules[index + 1];
  const up = () => above && act({ do: "move", ...of, before: above.title }, `${rule.title} is tried before ${above.title}.`);
  const down = () => {
    const after = gate.rules[index + 2];
    return below && act({ do: "move", ...of, before: after?.title ?? null }, `${rule.title} is tried after ${below.title}.`);
  };
  const byKey = (event: KeyboardEvent) => {
    if (!event.altKey || (event.key !== "ArrowUp" && event.key !== "ArrowDown")) return;
    event.preventDefault();
    void (event.key === "ArrowUp" ? up() : down());
  };
  return (
    <>
      <DropdownMenu.Root>
        <DropdownMenu.Trigger
          aria-label={`What to do with ${rule.title}`}
          title="Alt and an arrow key move it"
          onKeyDown={byKey}
          className="cursor-pointer rounded-sm px-2 text-lg leading-6 text-deep hover:bg-tint"
        >
          ⋯
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content align="end" className="z-40 min-w-56 rounded-sm border border-soft bg-paper p-1 shadow-none">
            {rule.copied_from && (
              <DropdownMenu.Item
                className={ITEM}
                onSelect={() => void act({ do: "looked", ...of }, `You looked at ${rule.title}.`)}
              >
                I have looked at what it gives
              </DropdownMenu.Item>
            )}
            <DropdownMenu.Item className={ITEM} disabled={!above} onSelect={() => void up()}>
              Move up
            </DropdownMenu.Item>
            <DropdownMenu.Item className={ITEM} disabled={!below} onSelect={() => void down()}>
              Move down
            </DropdownMenu.Item>
            <DropdownMenu.Item className={ITEM} disabled={gate.rules.length < 2} onSelect={() => setAsked("move")}>
              Move before another…
            </DropdownMenu.Item>
            <DropdownMenu.Item className={ITEM} onSelect={() => setAsked("copy")}>
              Copy…
            </DropdownMenu.Item>
            {rule.off ? (
              <DropdownMenu.Item className={ITEM} onSelect={() => void act({ do: "on", ...of }, `${rule.title} counts again.`)}>
                Switch on
              </DropdownMenu.Item>
            ) : (
              <DropdownMenu.Item className={ITEM} onSelect={() => setAsked("off")}>
                Switch off…
              </DropdownMenu.Item>
            )}
            <DropdownMenu.Item
              className={`${ITEM} text-rust`}
              onSelect={() => void act({ do: "remove", ...of }, `${rule.title} is deleted.`)}
            >
              Delete
            </DropdownMenu.Item>
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      {asked && <Ask gate={gate} title={rule.title} asked={asked} act={act} close={() => setAsked(null)} />}
    </>
  );
}

const TITLES = { copy: "Copy", off: "Switch off", move: "Move" };

/** What a copy is called, until when a rule is off, or where it goes. */
function Ask(props: {
  gate: Gate;
  title: string;
  asked: Asked;
  act: (what: Act, said: string) => Promise<void>;
  close: () => void;
}) {
  const { gate, title, asked, act, close } = props;
  const others = gate.rules.filter((rule) => rule.title !== title);
  const [value, setValue] = useState(asked === "copy" ? `${title} (copy)` : asked === "move" ? (others[0]?.title ?? "") : "");
  const of = { gate: gate.name, rule: title };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (asked === "copy") {
      void act({ do: "copy", ...of, title: value }, `${value} is a copy. Look at what it gives before you activate.`);
    }
    if (asked === "off") {
      const until = value ? new Date(value).toISOString().slice(0, 16).concat("Z") : null;
      void act({ do: "off", ...of, until }, until ? `${title} is off until ${until}.` : `${title} is off.`);
    }
    if (asked === "move") void act({ do: "move", ...of, before: value || null }, `${title} is moved.`);
    close();
  };
  return (
    <Question title={`${TITLES[asked]} “${title}”`} close={close}>
      <form onSubmit={submit}>
        {asked === "copy" && (
          <label>
            Title of the copy
            <input className={BOX} value={value} onChange={(event) => setValue(event.target.value)} />
            <span className="block text-sm text-soft">
              It is marked as copied until somebody has looked at what it gives, and cannot be activated before.
            </span>
          </label>
        )}
        {asked === "off" && (
          <label>
            Until, by the clock of this machine
            <input type="datetime-local" className={BOX} value={value} onChange={(event) => setValue(event.target.value)} />
            <span className="block text-sm text-soft">Empty: until it is switched on again.</span>
          </label>
        )}
        {asked === "move" && (
          <label>
            It is tried before
            <select className={BOX} value={value} onChange={(event) => setValue(event.target.value)}>
              {others.map((rule) => (
                <option key={rule.title}>{rule.title}</option>
              ))}
              <option value="">(after all others)</option>
            </select>
          </label>
        )}
        <FormEnd act={TITLES[asked]} busy={false} error={null} cancel={close} />
      </form>
    </Question>
  );
}
