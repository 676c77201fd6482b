import { Popover } from "radix-ui";

const READING = [
  ["Ctrl-F", "find in this file"],
  ["Ctrl-Shift-F", "find in all files"],
  ["F12, or Ctrl and click", "go to where a name is from"],
  ["F8", "go to the next finding"],
  ["Ctrl-Shift-[ and ]", "fold and unfold"],
] as const;

const WRITING = [
  ["Ctrl-Space", "what may stand here"],
  ["Ctrl-.", "make the change that mends this line"],
  ["F2", "another name, in all files"],
  ["Shift-Alt-F", "lay all files out"],
  ["Ctrl-/", "make a comment of a line, or none"],
  ["Ctrl-Z", "undo"],
] as const;

/** What each key does in the editor. */
export function Keys({ readOnly }: { readOnly: boolean }) {
  return (
    <Popover.Root>
      <Popover.Trigger className="cursor-pointer text-deep hover:underline">Keys</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="end" className="z-40 w-96 rounded-sm border border-soft bg-paper p-4 text-sm">
          <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
            {[...READING, ...(readOnly ? [] : WRITING)].map(([key, what]) => (
              <div key={key} className="col-span-2 grid grid-cols-subgrid">
                <dt className="font-semibold">{key}</dt>
                <dd>{what}</dd>
              </div>
            ))}
          </dl>
          <p className="mt-3 text-soft">Tab leaves the text, as it does any field. On a Mac, Cmd stands for Ctrl.</p>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
