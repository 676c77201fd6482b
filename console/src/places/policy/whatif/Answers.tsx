import type { components } from "../../../api/schema";
import { Mark } from "../../../parts/Mark";

type Answer = components["schemas"]["AnswerView"];
type Tried = Answer["rules"][number];

/** What policies come to, side by side; what differs is marked by a word. */
export function Answers({ answers, names }: { answers: readonly Answer[]; names: readonly string[] }) {
  return (
    <div className={`grid gap-8 ${answers.length > 1 ? "grid-cols-2" : "max-w-3xl"}`}>
      {answers.map((answer, at) => (
        <Trail key={names[at]} answer={answer} other={answers.length > 1 ? answers[1 - at] : undefined} name={names[at] ?? ""} />
      ))}
    </div>
  );
}

function Trail({ answer, other, name }: { answer: Answer; other: Answer | undefined; name: string }) {
  if (answer.report) {
    return (
      <section aria-label={name}>
        <h2 className="border-b border-ink font-serif text-xl">{name}</h2>
        <ul className="mt-2">
          {answer.report.diagnostics.map((found) => (
            <li key={`${found.file} ${found.line} ${found.code}`}>
              {found.code} {found.message} ({found.file}, line {found.line})
            </li>
          ))}
        </ul>
      </section>
    );
  }
  const gateDiffers = other !== undefined && other.gate !== answer.gate;
  const endDiffers = other !== undefined && comesTo(other) !== comesTo(answer);
  return (
    <section aria-label={name}>
      <h2 className="border-b border-ink font-serif text-xl">{name}</h2>
      <p className="mt-2">
        {answer.gate ? (
          <>
            Gate <span className="font-semibold">{answer.gate}</span> takes it
          </>
        ) : (
          "No gate takes it"
        )}
        {answer.passed_gates.length > 0 && (
          <span className="text-soft">
            ; passed over: {answer.passed_gates.map((one) => `${one.gate} (${one.outcome})`).join(", ")}
          </span>
        )}
        .{gateDiffers && <Differs />}
      </p>
      <ol aria-label={`Rules tried by ${name}`} className="mt-2">
        {answer.rules.map((rule) => (
          <li key={rule.title} className="border-b border-line py-1">
            <p>
              <span className={rule.outcome === "true" ? "font-semibold" : "text-soft"}>{rule.outcome}</span> {rule.title}
              {differs(rule, other) && <Differs />}
            </p>
            {rule.tests.length > 0 && (
              <p className="text-sm text-soft">
                {rule.tests.map((test) => (
                  <span key={test.text} className="mr-3 whitespace-nowrap">
                    {test.text}: {test.outcome}
                  </span>
                ))}
              </p>
            )}
          </li>
        ))}
      </ol>
      {answer.more_rules > 0 && <p className="text-sm text-soft">and {answer.more_rules} rules more</p>}
      <p className="mt-3 flex items-baseline gap-2 text-lg">
        <Mark of={answer.outcome} />
        <span>
          {answer.outcome} by <span className="italic">{answer.by}</span>
          {answer.grants.length > 0 && (
            <>
              : <span className="font-semibold">{answer.grants.join(", ")}</span>
            </>
          )}
          {endDiffers && <Differs />}
        </span>
      </p>
      {answer.says.length > 0 && <p className="text-soft">{answer.says.join(", ")}</p>}
    </section>
  );
}

function Differs() {
  return <span className="ml-2 rounded-sm bg-tint px-1 text-sm font-semibold text-deep">≠ differs</span>;
}

function comesTo(answer: Answer): string {
  return [answer.outcome, answer.by, answer.grants.join(), answer.says.join()].join("|");
}

/** Whether the other tried this rule with another outcome; one that it never came to is no difference by itself. */
function differs(rule: Tried, other: Answer | undefined): boolean {
  const same = other?.rules.find((one) => one.title === rule.title);
  return same !== undefined && same.outcome !== rule.outcome;
}
