//! Any text as a policy: told what is wrong, or compiled and its cases run; whoever writes it is helped, its gates
//! are read aloud, and something is done to each of their rules.
#![no_main]

use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use regnant_equipment::Vocabulary;
use regnant_policy::{
    Compiled, Diagnostic, RuleAct, Source, complete, format, gates, hover, item_put, occurrences, rename, rule_act,
    rule_put,
};

static TABLE: LazyLock<Vocabulary> = LazyLock::new(Vocabulary::standard);

/// A finding is shown, and what it suggests can be done.
fn told(found: &Diagnostic, source: &Source, text: &str) {
    found.render(source);
    if let Some(edit) = found.edit(source) {
        let mut mended = text.to_owned();
        for change in edit.changes.iter().rev() {
            mended.replace_range(change.span.start..change.span.end, &change.text);
        }
    }
}

fuzz_target!(|text: &str| {
    // Ends of lines and marks are made one first, as editors do.
    let text = text.trim_start_matches('\u{feff}').replace("\r\n", "\n").replace('\r', "\n");
    let source = Source::new("main.writ", &text);
    match Compiled::from_source(source.clone(), TABLE.schema()) {
        Ok(policy) => {
            policy.warnings().iter().chain(&policy.odd_at(1_800_000_000)).for_each(|found| told(found, &source, &text));
            policy.run_cases();
        }
        Err(checked) => checked.diagnostics().iter().for_each(|found| told(found, &source, &text)),
    }
    let place = (0..=text.len() / 2).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    complete(&source, place, TABLE.schema());
    hover(&source, place, TABLE.schema());
    if !occurrences(&source, place).is_empty() {
        let _ = rename(&source, place, "other");
    }
    for gate in gates(&source).iter().take(3) {
        for rule in gate.rules.iter().take(3) {
            let acts = [
                RuleAct::Move { before: None },
                RuleAct::Copy { title: "another".into() },
                RuleAct::Off { until: None },
                RuleAct::On,
                RuleAct::Looked,
                RuleAct::Remove,
            ];
            for act in acts {
                for change in rule_act(&source, &gate.name, &rule.title, &act).into_iter().flatten() {
                    source.slice(change.span);
                }
            }
        }
        let _ = rule_put(&source, &gate.name, None, "rule \"put\" { when device.known refuse }");
    }
    let _ = item_put(&source, &text);
    if let Ok(laid) = format(&text) {
        assert_eq!(format(&laid).as_ref(), Ok(&laid));
    }
});
