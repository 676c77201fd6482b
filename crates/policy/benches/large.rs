//! What a large policy costs to check, to lay out, to compare and to ask, by how many rules it has. What
//! counts is how the time grows; a pass over the bytes of the text is the yardstick.

use std::hint::black_box;
use std::time::{Duration, Instant};

use regnant_policy::*;

const TURNS: usize = 5;

fn main() {
    if std::env::args().all(|argument| argument != "--bench") {
        return;
    }
    println!("A policy of rules on groups, sites and ports, a case for each tenth; medians of {TURNS}.");
    println!("   rules      bytes   one pass     check   of a pass     lay out   compare   cases");
    for rules in [10, 100, 1_000, 10_000] {
        let text = policy(rules, 0);
        let other = policy(rules, 7);
        let (schema, source) = (schema(), Source::new("main.writ", &text));
        let pass = median(|| black_box(text.bytes().fold(0_u64, |sum, byte| sum.wrapping_mul(31) + u64::from(byte))));
        let checked = median(|| Compiled::from_source(source.clone(), &schema).unwrap_or_else(|_| panic!("it checks")));
        let laid = median(|| format(&text).unwrap_or_else(|_| panic!("it is laid out")));
        let after = Source::new("main.writ", &other);
        let compared = median(|| changes(&source, &after));
        let compiled = Compiled::from_source(source.clone(), &schema).unwrap_or_else(|_| panic!("it checks"));
        let cases = median(|| compiled.run_cases());
        let milliseconds = |took: Duration| format!("{:.1} ms", took.as_secs_f64() * 1e3);
        println!(
            "  {rules:6}  {:9}  {:>9}  {:>8}  {:9.0}x  {:>9}  {:>8}  {:>6}",
            text.len(),
            milliseconds(pass),
            milliseconds(checked),
            checked.as_secs_f64() / pass.as_secs_f64(),
            milliseconds(laid),
            milliseconds(compared),
            milliseconds(cases)
        );
    }
}

fn median<T>(mut work: impl FnMut() -> T) -> Duration {
    let mut took: Vec<_> = (0..TURNS)
        .map(|_| {
            let began = Instant::now();
            black_box(work());
            began.elapsed()
        })
        .collect();
    took.sort();
    took[TURNS / 2]
}

/// Each tenth rule gives something else with another `turn`.
fn policy(rules: usize, turn: usize) -> String {
    let mut text = String::from("list sites = { \"quayside\", \"yard\", \"tower\" }\n");
    for vlan in 1..=20 {
        text += &format!("grant vlan-{vlan} {{\n  vlan {vlan}\n  role \"role-{vlan}\"\n}}\n\n");
    }
    text += "gate all {\n  accept pap\n  identify user in people\n\n";
    for number in 0..rules {
        let vlan = (number + if number % 10 == 0 { turn } else { 0 }) % 20 + 1;
        text += &format!(
            "  rule \"Group {number} of the port\" {{\n    when user in group \"group-{number}\" and nas.site in sites and \
             request.port in 1..48\n    grant vlan-{vlan}\n  }}\n"
        );
    }
    text += "  otherwise refuse\n}\n";
    for number in (0..rules).step_by(10) {
        text += &format!(
            "case \"group {number}\" {{\n  given nas.site = \"yard\", request.port = 7, user.groups = {{ \"group-{number}\" }}\n  \
             expect grant vlan-{} by \"Group {number} of the port\"\n}}\n",
            (number + turn) % 20 + 1
        );
    }
    text
}

fn schema() -> Schema {
    let fact = |name: &str, kind: Type, known: Stage| FactDefinition {
        name: name.into(),
        also: Vec::new(),
        kind,
        known,
        always: false,
        meaning: String::new(),
    };
    Schema::new([
        fact("nas.site", Type::NAME, Stage::FirstPacket),
        fact("request.port", Type::Integer, Stage::FirstPacket),
        fact("user.groups", Type::Set(Box::new(Type::NAME)), Stage::Proof),
    ])
}
