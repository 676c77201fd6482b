import type { components } from "../../api/schema";

type View = components["schemas"]["DifferenceView"];
type Change = components["schemas"]["PolicyChangeView"];
type Told = components["schemas"]["ToldDifference"];

/** How one policy differs from another: what is meant by it, what equipment would be told, and the lines. */
export function Difference({ difference }: { difference: View }) {
  const { changes, told, files } = difference;
  if (files.length === 0) return <p className="text-soft">Nothing differs.</p>;
  return (
    <div className="grid gap-5">
      <section aria-label="What is meant">
        <h3 className="mb-1 font-serif text-lg">What is meant</h3>
        {changes.length === 0 && <p className="text-soft">Only the layout or comments differ.</p>}
        <ChangeList changes={changes} />
      </section>
      {told.length > 0 && (
        <section aria-label="What equipment is told">
          <h3 className="mb-1 font-serif text-lg">What equipment is told</h3>
          <ul>
            {told.map((one) => (
              <li key={`${one.grant} ${one.dialect}`} className="border-b border-line py-2">
                <p>
                  For <span className="font-semibold">{one.grant}</span>, in the dialect {one.dialect}
                </p>
                <BeforeAfter {...onlyOther(one)} />
              </li>
            ))}
          </ul>
        </section>
      )}
      <details>
        <summary className="cursor-pointer text-deep">The lines</summary>
        {files.map((file) => (
          <section key={file.path} aria-label={file.path} className="mt-3">
            <h4 className="font-semibold">{file.path}</h4>
            <pre className="whitespace-pre-wrap font-mono text-[13px] leading-6">
              {file.unified.split("\n").map((line, at) => (
                <div key={at} data-line={line[0] === "+" || line[0] === "-" ? line[0] : undefined} className="data-line:bg-tint">
                  {line}
                </div>
              ))}
            </pre>
          </section>
        ))}
      </details>
    </div>
  );
}

/** Changes that are shown; nobody reads more. */
const MOST_SHOWN = 500;

/** Changes by what is meant, each with what it said before and says now. */
export function ChangeList({ changes }: { changes: readonly Change[] }) {
  const more = changes.length - MOST_SHOWN;
  return (
    <ul>
      {changes.slice(0, MOST_SHOWN).map((change) => (
        <li key={keyOf(change)} className="border-b border-line py-2">
          <p>
            <span className="font-semibold">{change.change}</span> {nameOf(change)}{" "}
            <span className="text-soft">
              ({change.file}, line {change.line})
            </span>
          </p>
          {change.change === "moved" && (
            <p className="text-soft">
              from {change.before} to {change.after}
            </p>
          )}
          {change.change === "changed" && <BeforeAfter before={[change.before]} after={[change.after]} />}
        </li>
      ))}
      {more > 0 && <li className="py-2 text-soft">and {more} more</li>}
    </ul>
  );
}

/** What stood there, and what stands there now; told by sign and word, whoever does not see colours apart. */
function BeforeAfter({ before, after }: { before: string[]; after: string[] }) {
  return (
    <dl className="mt-1 grid grid-cols-[4rem_1fr] font-mono text-[13px]">
      {before.length > 0 && <dt className="text-soft">before</dt>}
      {before.length > 0 && <dd className="whitespace-pre-wrap">{before.join("\n")}</dd>}
      {after.length > 0 && <dt className="text-soft">then</dt>}
      {after.length > 0 && <dd className="whitespace-pre-wrap">{after.join("\n")}</dd>}
    </dl>
  );
}

function onlyOther({ before, after }: Told): { before: string[]; after: string[] } {
  return { before: before.filter((line) => !after.includes(line)), after: after.filter((line) => !before.includes(line)) };
}

function nameOf(change: Change): string {
  const part = change.part ? `, its ${change.part}` : "";
  if (change.of === "part") return `${change.name} of gate ${change.gate}`;
  const gate = change.gate ? ` of gate ${change.gate}` : "";
  return `${change.of} ${change.name}${gate}${part}`;
}

function keyOf(change: Change): string {
  return [change.change, change.of, change.gate, change.name, change.part, change.file, change.line].join(" ");
}
