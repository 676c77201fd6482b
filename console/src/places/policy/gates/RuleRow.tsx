import type { components } from "../../../api/schema";
import { moment } from "../../../parts/time";
import type { Act } from "./act";
import { RuleMenu } from "./RuleMenu";
import { said } from "./GatesPage";

type Gate = components["schemas"]["GateView"];
type ThenView = components["schemas"]["ThenView"];
type Told = components["schemas"]["GrantsTold"];
type Hits = components["schemas"]["RuleHits"];

/** A rule in words: when it decides, what follows, how often it did, and what can be done to it. */
export function RuleRow(props: {
  gate: Gate;
  index: number;
  told: readonly Told[];
  hits: Hits | undefined;
  counted: boolean;
  act: ((what: Act, said: string) => Promise<void>) | undefined;
  open: () => void;
}) {
  const { gate, index, told, hits, counted, act, open } = props;
  const rule = gate.rules[index];
  if (!rule) return null;
  const never = counted && hits !== undefined && !hits.last;
  return (
    <div className="grid grid-cols-[2.5rem_1fr_17rem_9rem_2rem] items-start gap-4 py-2" data-off={rule.off ? "" : undefined}>
      <span className="pt-0.5 text-right text-soft tabular-nums">{index + 1}</span>
      <div className="min-w-0">
        <button type="button" className="cursor-pointer text-left font-semibold text-deep hover:underline" onClick={open}>
          {rule.title}
        </button>
        <Badges rule={rule} />
        <p className="font-serif">when {rule.when}</p>
      </div>
      <Then then={rule.then} told={told} />
      <div className="text-sm">
        {counted && <p className={never ? "font-semibold text-ochre" : "text-soft"}>{said(hits)}</p>}
        {hits?.last && <p className="text-soft">last {moment(hits.last)}</p>}
      </div>
      {act && <RuleMenu gate={gate} index={index} act={act} />}
    </div>
  );
}

function Badges({ rule }: { rule: Gate["rules"][number] }) {
  const badges = [
    rule.off && (rule.off_until ? `off until ${rule.off_until}` : "off: it is passed over"),
    rule.from && `counts from ${rule.from}`,
    rule.until && `counts until ${rule.until}`,
    rule.always && "refuses where the gate observes, too",
    rule.copied_from && `copied from “${rule.copied_from}”: nobody has looked at what it gives`,
  ].filter(Boolean);
  if (badges.length === 0) return null;
  return <p className="text-sm text-ochre">{badges.join(" · ")}</p>;
}

/** What follows, and what equipment is told of it. */
export function Then({ then, told }: { then: ThenView; told: readonly Told[] }) {
  if (then.what !== "grant") {
    return (
      <p>
        <span className="font-semibold text-rust">{then.what === "refuse" ? "✗ refuse" : "… silence"}</span>
        {then.text && <span className="text-soft"> “{then.text}”</span>}
      </p>
    );
  }
  const wire = told.find((one) => one.grants.join() === then.grants.join());
  return (
    <div className="min-w-0">
      <p>
        <span aria-hidden>✓ </span>
        <span className="font-semibold">{then.grants.join(", ")}</span>
      </p>
      {wire && wire.dialects.length > 0 && (
        <details className="text-sm">
          <summary className="cursor-pointer text-soft">What equipment is told</summary>
          <dl>
            {wire.dialects.map((one) => (
              <div key={one.dialect} className="py-1">
                <dt className="font-semibold">{one.dialect}</dt>
                {one.cannot && <dd className="text-rust">cannot be told: {one.cannot}</dd>}
                {one.lists_by_name.length > 0 && (
                  <dd className="text-soft">has to have {one.lists_by_name.join(", ")} already: only the name is told</dd>
                )}
                {one.attributes.map((attribute) => (
                  <dd key={attribute} className="font-mono text-xs break-words">
                    {attribute}
                  </dd>
                ))}
              </div>
            ))}
          </dl>
        </details>
      )}
    </div>
  );
}
