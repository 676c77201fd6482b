import { Popover } from "radix-ui";
import { type FormEvent, type ReactNode, useState } from "react";
import { BOX } from "../../../parts/Field";
import { type Draft, MAIN } from "../draft/draft";
import type { Show } from "./TextPage";

/** The files of the policy, one of which is shown; new ones are included by main.writ. */
export function Files(props: { draft: Draft; shown: string; show: Show; readOnly: boolean; children: ReactNode }) {
  const { draft, shown, show, readOnly } = props;
  return (
    <div className="mb-1 flex flex-wrap items-baseline gap-x-4 gap-y-1">
      <nav aria-label="Files" className="flex flex-wrap gap-x-4">
        {draft.paths.map((path) => (
          <button
            key={path}
            type="button"
            aria-current={path === shown ? "page" : undefined}
            onClick={() => show(path)}
            className={path === shown ? "border-b-2 border-deep" : "cursor-pointer text-soft hover:text-ink"}
          >
            {path}
          </button>
        ))}
      </nav>
      {!readOnly && <NewFile draft={draft} show={show} />}
      {!readOnly && shown !== MAIN && (
        <button
          type="button"
          className="cursor-pointer text-rust hover:underline"
          onClick={() => {
            draft.writeAll([[MAIN, withoutInclude(draft.text(MAIN), shown)]]);
            draft.remove(shown);
          }}
        >
          Remove {shown}
        </button>
      )}
      <span className="ml-auto flex gap-4">{props.children}</span>
    </div>
  );
}

function NewFile({ draft, show }: { draft: Draft; show: Show }) {
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [wrong, setWrong] = useState("");
  const add = (event: FormEvent) => {
    event.preventDefault();
    const path = name.trim().endsWith(".writ") ? name.trim() : `${name.trim()}.writ`;
    if (!/^[\w-][\w.-]*\.writ$/.test(path)) return setWrong("A name has letters, digits, - and _, such as grants.writ.");
    if (draft.content(path) !== undefined) return setWrong(`There is a file ${path} already.`);
    draft.writeAll([
      [path, ""],
      [MAIN, withInclude(draft.text(MAIN), path)],
    ]);
    setOpen(false);
    show(path);
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="cursor-pointer text-deep hover:underline">Add a file</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="start" className="z-40 w-80 rounded-sm border border-soft bg-paper p-4">
          <form onSubmit={add}>
            <label>
              Name
              <input className={BOX} value={name} onChange={(event) => setName(event.target.value)} placeholder="grants.writ" />
            </label>
            {wrong && (
              <p role="alert" className="mt-1 text-rust">
                {wrong}
              </p>
            )}
            <button type="submit" className="mt-3 cursor-pointer rounded-sm bg-deep px-3 py-0.5 text-paper">
              Add it
            </button>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

/** The text of main.writ with one more file, after those that it includes already. */
export function withInclude(text: string, path: string): string {
  const line = `include "${path}"`;
  const lines = text.split("\n");
  const last = lines.findLastIndex((one) => one.trimStart().startsWith("include "));
  const zone = lines.findIndex((one) => one.trimStart().startsWith("zone "));
  const at = last >= 0 ? last + 1 : zone >= 0 ? zone + 1 : 0;
  return lines.toSpliced(at, 0, line).join("\n");
}

/** The text of main.writ without a file. */
export function withoutInclude(text: string, path: string): string {
  const is = (line: string) => line.trim() === `include "${path}"`;
  return text
    .split("\n")
    .filter((line) => !is(line))
    .join("\n");
}
