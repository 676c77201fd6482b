//! Conditions as people say them to one another.

use crate::parse::ast::{Comparison, Condition, Name, Operand, SetItem, Test};
use crate::source::{Source, Span};

/// A condition in words: "the device is in group “cranes” and the NAS's site is quayside".
pub(crate) fn aloud(condition: &Condition, source: &Source) -> String {
    Reader { source }.condition(condition, true, false)
}

struct Reader<'s> {
    source: &'s Source,
}

impl Reader<'_> {
    /// A condition, or its opposite; within another one those of several parts need parentheses.
    fn condition(&self, condition: &Condition, holds: bool, inner: bool) -> String {
        match condition {
            Condition::And(parts) => self.joined(parts, "and", holds, inner),
            Condition::Or(parts) => self.joined(parts, "or", holds, inner),
            Condition::Not(part) => self.condition(part, !holds, inner),
            Condition::Exists { fact, .. } => format!("{} {}", fact_words(&fact.text), is(holds, "told")),
            Condition::Test { left, test, .. } => self.test(left, test, holds),
            Condition::Quantified { all, left, set, .. } => {
                let (some, verb) = if *all { ("each", "is") } else { ("any", "is") };
                let of = format!("{some} of {} {verb} {}", self.operand(left), self.set(set));
                if holds { of } else { format!("not so: {of}") }
            }
        }
    }

    fn joined(&self, parts: &[Condition], word: &str, holds: bool, inner: bool) -> String {
        let parts: Vec<_> = parts.iter().map(|part| self.condition(part, true, true)).collect();
        let text = parts.join(&format!(" {word} "));
        match (holds, inner) {
            (false, _) => format!("not ({text})"),
            (true, true) => format!("({text})"),
            (true, false) => text,
        }
    }

    fn test(&self, left: &Operand, test: &Test, holds: bool) -> String {
        if let (Operand::Word(name), Test::Bare) = (left, test) {
            return bare(name, holds);
        }
        if let Test::InGroup(group, store) = test {
            let who = match left {
                Operand::Word(name) => format!("the {}", name.text.trim_end_matches(".groups")),
                other => self.operand(other),
            };
            let of = store.as_ref().map_or(String::new(), |store| format!(" of {}", store.text));
            return format!("{who} {} group “{}”{of}", is(holds, "in"), group.text);
        }
        let (verb, rest) = match test {
            Test::Bare => (is(holds, "true"), String::new()),
            Test::Compare(Comparison::NotEqual, other) => (is(!holds, ""), self.operand(other)),
            Test::Compare(comparison, other) => (is(holds, compared(*comparison)), self.operand(other)),
            Test::InSet(members) => (is(holds, ""), self.members(members)),
            Test::InRange(first, last) => {
                (is(holds, "from"), format!("{} to {}", self.operand(first), self.operand(last)))
            }
            Test::InBlock(block) => (is(holds, "in"), self.operand(block)),
            Test::StartsWith(part) => (does(holds, "begin", "begins", "with"), self.operand(part)),
            Test::EndsWith(part) => (does(holds, "end", "ends", "with"), self.operand(part)),
            Test::Contains(part) => (does(holds, "have", "has", "in it"), self.operand(part)),
            Test::Matches(regex) => (does(holds, "match", "matches", ""), format!("/{}/", regex.text)),
            Test::InGroup(..) => unreachable!("it is said above"),
        };
        [self.operand(left), verb, rest].iter().filter(|part| !part.is_empty()).cloned().collect::<Vec<_>>().join(" ")
    }

    fn operand(&self, operand: &Operand) -> String {
        match operand {
            Operand::Word(name) if is_fact(&name.text) => fact_words(&name.text),
            Operand::Word(name) => name.text.clone(),
            Operand::Text(name) | Operand::Secret(name) => format!("“{}”", name.text),
            Operand::Regex(name) => format!("/{}/", name.text),
            Operand::Keyed { fact, key } => format!("{} “{}”", fact_words(&fact.text), key.text),
            Operand::Window(window) => self.written(window.span),
            Operand::Call { function, arguments, span } => {
                let argument = |place: usize| arguments.get(place).map_or(String::new(), |one| self.operand(one));
                match function.text.as_str() {
                    "lower" => format!("{} in small letters", argument(0)),
                    "upper" => format!("{} in capitals", argument(0)),
                    "trim" => format!("{} without white space around it", argument(0)),
                    "before" => format!("what stands before {} in {}", argument(1), argument(0)),
                    "after" => format!("what stands after {} in {}", argument(1), argument(0)),
                    "capture" => format!("what {} captures of {}", argument(1), argument(0)),
                    _ => self.written(*span),
                }
            }
        }
    }

    fn set(&self, set: &SetItem) -> String {
        match set {
            SetItem::Members(members) => self.members(members),
            SetItem::List(name) => format!("in the list {}", name.text),
        }
    }

    /// `a, b or c`.
    fn members(&self, members: &[Operand]) -> String {
        let said: Vec<_> = members.iter().map(|member| self.operand(member)).collect();
        match said.split_last() {
            None => "one of none".into(),
            Some((only, [])) => only.clone(),
            Some((last, others)) => format!("{} or {last}", others.join(", ")),
        }
    }

    fn written(&self, span: Span) -> String {
        self.source.slice(span).split_whitespace().collect::<Vec<_>>().join(" ")
    }
}

fn is_fact(word: &str) -> bool {
    word.starts_with(|c: char| c.is_ascii_lowercase()) && word.contains('.') && !word.contains(':')
}

/// `is`, `is not in`.
fn is(holds: bool, what: &str) -> String {
    let verb = if holds { "is" } else { "is not" };
    format!("{verb} {what}").trim_end().to_owned()
}

fn does(holds: bool, plain: &str, third: &str, what: &str) -> String {
    let verb = if holds { third.to_owned() } else { format!("does not {plain}") };
    format!("{verb} {what}").trim_end().to_owned()
}

fn compared(comparison: Comparison) -> &'static str {
    match comparison {
        Comparison::Equal | Comparison::NotEqual => "",
        Comparison::Less => "less than",
        Comparison::LessOrEqual => "at most",
        Comparison::Greater => "more than",
        Comparison::GreaterOrEqual => "at least",
    }
}

/// A fact that is true or false, or the name of a condition, by itself.
fn bare(name: &Name, holds: bool) -> String {
    match name.text.split_once('.').filter(|_| is_fact(&name.text)) {
        Some((who, what)) => format!("{} {}", owner(who), is(holds, what)),
        None if holds => format!("{} holds", name.text),
        None => format!("{} does not hold", name.text),
    }
}

fn owner(prefix: &str) -> String {
    match prefix {
        "nas" => "the NAS".into(),
        "tls" => "the TLS session".into(),
        other => format!("the {other}"),
    }
}

/// What a fact is called among people: `nas.site` is the NAS's site.
fn fact_words(fact: &str) -> String {
    match (fact, fact.split_once('.')) {
        ("time.now", _) => "the time".into(),
        ("request.mac", _) => "the MAC address".into(),
        ("request.ssid", _) => "the SSID".into(),
        (_, Some(("request", what))) => format!("the request's {what}"),
        (_, Some(("claimed", what))) => format!("the claimed {what}"),
        (_, Some((who, what))) => format!("{}'s {what}", owner(who)),
        (other, None) => other.into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::parse;

    #[track_caller]
    fn said(condition: &str) -> String {
        let source = Source::new("main.writ", format!("define d = {condition}"));
        let (policy, found) = parse::parse(&source);
        assert!(found.is_empty(), "{found:?}");
        aloud(&policy.defines[0].condition, &source)
    }

    #[test]
    fn conditions_are_said_in_words() {
        for (condition, words) in [
            (
                "device in group \"cranes\" and nas.site = \"quayside\"",
                "the device is in group “cranes” and the NAS's site is “quayside”",
            ),
            ("not device.known", "the device is not known"),
            ("not user in group \"a\" of harbour", "the user is not in group “a” of harbour"),
            ("on-a-crane-port or not quiet", "on-a-crane-port holds or quiet does not hold"),
            (
                "request.port in 1..12 and (machine.proved or exists machine.failure)",
                "the request's port is from 1 to 12 and (the machine is proved or the machine's failure is told)",
            ),
            ("not (device.known and device.barred)", "not (the device is known and the device is barred)"),
            ("nas.kind in { switch, router, vpn }", "the NAS's kind is switch, router or vpn"),
            ("nas.address in 10.44.0.0/16", "the NAS's address is in 10.44.0.0/16"),
            ("time.now in quiet-hours", "the time is in quiet-hours"),
            ("request.port >= 3", "the request's port is at least 3"),
            ("not request.port != 3", "the request's port is 3"),
            ("not user.name starts with \"a\"", "the user's name does not begin with “a”"),
            ("user.name contains \"a\"", "the user's name has in it “a”"),
            (
                "lower(before(claimed.name, \"@\")) = \"x\"",
                "what stands before “@” in the claimed name in small letters is “x”",
            ),
            ("any of user.groups in { \"a\", \"b\" }", "any of the user's groups is “a” or “b”"),
            ("not all of user.groups in names", "not so: each of the user's groups is in the list names"),
            ("certificate.extension \"1.3\" = \"x\"", "the certificate's extension “1.3” is “x”"),
        ] {
            assert_eq!(said(condition), words, "{condition}");
        }
    }
}
