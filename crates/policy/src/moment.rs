//! What is odd about a policy at a moment, or until somebody has looked at it.

use crate::diagnostic::Diagnostic;
use crate::edit::Mend;
use crate::run::program::{Gate, Off, Rule};
use crate::window::show_instant;

/// A rule that was copied, and that nobody has looked at since: it keeps a policy from being activated.
pub const COPIED: &str = "W412";

/// So many seconds before its end a rule is told of.
const SOON: i64 = 7 * 86_400;
const DAY: i64 = 86_400;

/// What is odd about these gates at a moment, in seconds since 1970.
pub(crate) fn odd_at(gates: &[Gate], now: i64) -> Vec<Diagnostic> {
    let mut odd = Vec::new();
    for gate in gates {
        if let Some(observe) = &gate.observe {
            let message = format!("gate `{}` is watched: what it would refuse is given access", gate.name);
            let note = "remove `observe` once the journal shows that only those are meant whom it would refuse";
            odd.push(Diagnostic::warning("W508", observe.span, message).note(note));
        }
        odd.extend(gate.rules.iter().flat_map(|rule| odd_rule(rule, now)));
    }
    odd
}

fn odd_rule(rule: &Rule, now: i64) -> impl Iterator<Item = Diagnostic> {
    let title = &rule.title;
    let warning = |code, message: String| Diagnostic::warning(code, rule.span, message);
    let copied = rule.copied_from.as_ref().map(|from| {
        warning(COPIED, format!("rule \"{title}\" was copied from \"{from}\" and nobody has looked at it since"))
            .note("see that what it gives is meant, and remove the words `copied from`")
            .mend(Mend::Without("take what it gives as meant", rule.spans.copied))
    });
    let on_again = |found: Diagnostic| found.mend(Mend::Without("have it count again", rule.spans.off));
    let off = rule.off.and_then(|off| match off {
        Off::Always => Some(warning("W507", format!("rule \"{title}\" is off")).note("remove `off`, or the rule")),
        Off::Until(at) if now < at => {
            Some(warning("W507", format!("rule \"{title}\" is off until {}", show_instant(at))))
        }
        Off::Until(_) => None,
    });
    let off = off.map(on_again);
    let end = rule.until.and_then(|until| match until - now {
        left if left <= 0 => Some(
            warning("W505", format!("rule \"{title}\" ended {}", show_instant(until)))
                .note("remove it; what was gives nobody anything any more")
                .mend(Mend::Without("remove the rule", rule.spans.whole)),
        ),
        left if left <= SOON => {
            let left = if left < DAY { format!("{} h", left / 3_600) } else { format!("{} days", left / DAY) };
            Some(warning("W506", format!("rule \"{title}\" ends in {left}")).note("let it end, or give it a later end"))
        }
        _ => None,
    });
    [copied, off, end].into_iter().flatten()
}
