//! What is odd about a policy and works all the same. What is not certain is not said.

use std::collections::HashMap;

use crate::acl::{Acl, Entry, Port, Where};
use crate::check::Checker;
use crate::diagnostic::Diagnostic;
use crate::parse::ast::{Comparison, GateItem, Name, Policy};
use crate::run::method::{Accepted, IdentityKind, Method};
use crate::run::program::{Consequence, Expression, Gate, Leaf, Node, NodeId, Test, Undetermined};
use crate::run::{Facts, Known};
use crate::schema::{FactId, Type};
use crate::value::{Value, block_holds, same_text};

/// Why a method is weak.
const GUESSED: &str = "shows whoever listens what a password can be guessed from";

impl Checker<'_> {
    /// Looks at what was checked.
    pub(super) fn odd(&mut self, policy: &Policy) {
        self.differ_by_case("list", policy.lists.iter().map(|item| &item.name));
        self.differ_by_case("condition", policy.defines.iter().map(|item| &item.name));
        self.differ_by_case("access list", policy.acls.iter().map(|item| &item.name));
        self.differ_by_case("grant", policy.grants.iter().map(|item| &item.name));
        for item in &policy.gates {
            self.differ_by_case("rule", item.rules.iter().map(|rule| &rule.title));
            let gates = std::mem::take(&mut self.program.gates);
            if let Some(gate) = gates.iter().find(|gate| gate.name == item.name.text) {
                self.odd_gate(item, gate);
            }
            self.program.gates = gates;
        }
    }

    fn differ_by_case<'n>(&mut self, what: &str, names: impl Iterator<Item = &'n Name>) {
        let mut first: HashMap<String, &Name> = HashMap::new();
        for name in names {
            let before = *first.entry(name.text.to_lowercase()).or_insert(name);
            if before.text != name.text {
                let message = format!("the {what}s `{}` and `{}` differ by case alone", before.text, name.text);
                self.report(
                    Diagnostic::warning("W515", name.span, message)
                        .also(before.span, "the first")
                        .note("readers take one for the other: give one of them another name"),
                );
            }
        }
    }

    fn odd_gate(&mut self, item: &GateItem, gate: &Gate) {
        let title = |place: usize| gate.rules[place].title.clone();
        let mut conditions: HashMap<String, usize> = HashMap::new();
        for (place, rule) in gate.rules.iter().enumerate() {
            // Where both say the same the first decides; only where one that grants is passed over for want
            // of an answer, another that refuses is not.
            let before = *conditions.entry(self.written_out(rule.when)).or_insert(place);
            if before != place && gate.undetermined != Undetermined::Continue {
                let message =
                    format!("rule \"{}\" never decides: \"{}\" has the same condition", rule.title, title(before));
                self.report(
                    Diagnostic::warning("W511", rule.span, message)
                        .also(gate.rules[before].span, "the first")
                        .note("change the condition of one of them, or remove the second"),
                );
            }
            if let Some(why) = self.never_true(rule.when).filter(|_| rule.off.is_none()) {
                let message = format!("rule \"{}\" never decides: {why}", rule.title);
                self.report(
                    Diagnostic::warning("W512", rule.span, message)
                        .note("see whether `or` is meant in the place of `and`"),
                );
            }
        }
        if let Some(place) = gate.rules.iter().position(|rule| self.always_true(rule.when))
            && let Some(after) = gate.rules.get(place + 1)
        {
            let message =
                format!("rule \"{}\" never decides: \"{}\" is true of every request", after.title, title(place));
            self.report(
                Diagnostic::warning("W510", after.span, message)
                    .also(gate.rules[place].span, "always true")
                    .note("what applies to everybody is `otherwise`, at the end of the gate"),
            );
        }
        self.weak_methods(item, gate);
        self.permissive(item, gate);
        self.remembers(item, gate);
    }

    /// Methods that a listener can guess passwords from.
    fn weak_methods(&mut self, item: &GateItem, gate: &Gate) {
        if gate.identify(IdentityKind::User).is_none() {
            return;
        }
        for (accepted, written) in gate.accept.iter().zip(&item.accept) {
            let Accepted { method, .. } = accepted;
            let (over_networks, why) = match method {
                Method::EapMd5 => (
                    self.may_be_for_networks(gate, "eap"),
                    "shows whoever listens what a password can be guessed from, and gives no keys",
                ),
                Method::Pap => (self.may_be_for_networks(gate, "pap"), "has the NAS see every password"),
                Method::Chap => (self.may_be_for_networks(gate, "chap"), GUESSED),
                Method::MsChap => (self.may_be_for_networks(gate, "mschap"), GUESSED),
                _ => (false, ""),
            };
            if over_networks {
                let message =
                    format!("gate `{}` accepts {} of people for networks, which {why}", gate.name, method.word());
                self.report(
                    Diagnostic::warning("W513", written.name.span, message)
                        .note("put it into a tunnel, such as ttls, or say in `when` that the gate is for logins"),
                );
            }
        }
    }

    /// Whether the gate may take somebody who asks for a network with a credential that comes so. What its
    /// `when` asks beside counts as open.
    fn may_be_for_networks(&self, gate: &Gate, carrier: &str) -> bool {
        struct Network([Option<(FactId, i64)>; 2]);
        impl Facts for Network {
            fn fact(&self, id: FactId) -> Known<Value<'_>> {
                let known = self.0.iter().flatten().find(|(known, _)| *known == id);
                known.map_or(Known::Unanswered, |(_, number)| Known::Is(Value::Integer(*number)))
            }
        }
        let of = |fact: &str, word: &str| {
            let id = self.schema.find(fact)?;
            let Type::Enumeration(words) = &self.schema.definition(id).kind else { return None };
            words.iter().find(|(known, _)| known == word).map(|(_, number)| (id, *number))
        };
        let Some(purpose) = of("request.purpose", "network") else { return false };
        let facts = Network([Some(purpose), of("request.carrier", carrier)]);
        let truth = |when| self.program.truth(when, &facts, &mut ());
        gate.when.map(truth).is_none_or(|truth| truth.is_true() || truth.might_be_true())
    }

    /// `otherwise` gives what a rule gives to somebody who is somebody.
    fn permissive(&mut self, item: &GateItem, gate: &Gate) {
        let Consequence::Grant(everybody) = gate.otherwise else { return };
        let same = gate.rules.iter().find(|rule| rule.then == Consequence::Grant(everybody));
        if let Some(rule) = same {
            let message = format!("gate `{}` gives everybody what rule \"{}\" gives to some", gate.name, rule.title);
            self.report(
                Diagnostic::warning("W514", item.name.span, message).also(rule.span, "the rule").note(
                    "end the gate with `otherwise refuse`: whom the rule does not fit is given the same as it is",
                ),
            );
        }
    }

    /// A machine that is remembered is known by an address that anybody can set.
    fn remembers(&mut self, item: &GateItem, gate: &Gate) {
        if gate.remember_machine.is_none() {
            return;
        }
        let asks = |rule: &&crate::run::program::Rule| {
            // Whoever asks how or when it was proved tells the one from the other.
            let tells_apart = ["machine.proof", "machine.age"].iter().any(|fact| self.asks(rule.when, fact));
            matches!(rule.then, Consequence::Grant(_)) && self.asks_for_a_machine(rule.when, false) && !tells_apart
        };
        if let Some(rule) = gate.rules.iter().find(asks) {
            let message = format!("rule \"{}\" gives more for a machine that is only remembered", rule.title);
            self.report(
                Diagnostic::warning("W516", item.name.span, message)
                    .also(rule.span, "the rule")
                    .note("a machine is remembered by its MAC address, which anybody can set; TEAP proves machine and user in one conversation"),
            );
        }
    }

    /// Whether a condition asks for a fact at all.
    fn asks(&self, node: NodeId, fact: &str) -> bool {
        match &self.program.nodes[node] {
            Node::All(terms) | Node::Any(terms) => terms.iter().any(|term| self.asks(*term, fact)),
            Node::Not(inner) => self.asks(*inner, fact),
            Node::Leaf(leaf) => self.schema.definition(self.program.leaves[*leaf as usize].fact).name == fact,
        }
    }

    /// Whether a condition asks that a machine is proved, or what it is, and not that it is not.
    fn asks_for_a_machine(&self, node: NodeId, negated: bool) -> bool {
        match &self.program.nodes[node] {
            Node::All(terms) | Node::Any(terms) => terms.iter().any(|term| self.asks_for_a_machine(*term, negated)),
            Node::Not(inner) => self.asks_for_a_machine(*inner, !negated),
            Node::Leaf(leaf) => {
                let name = &self.schema.definition(self.program.leaves[*leaf as usize].fact).name;
                let leaf = &self.program.leaves[*leaf as usize];
                let is_not = matches!(&leaf.test, Test::Compare(_, Expression::Literal(Value::Boolean(false))));
                negated == is_not && ["machine.proved", "machine.groups", "machine.name"].contains(&name.as_str())
            }
        }
    }

    /// A condition written out, the same for two that are the same.
    fn written_out(&self, node: NodeId) -> String {
        let several = |terms: &[NodeId], word: &str| {
            let terms: Vec<_> = terms.iter().map(|term| self.written_out(*term)).collect();
            format!("({})", terms.join(word))
        };
        match &self.program.nodes[node] {
            Node::All(terms) => several(terms, " and "),
            Node::Any(terms) => several(terms, " or "),
            Node::Not(inner) => format!("not {}", self.written_out(*inner)),
            Node::Leaf(leaf) => self.program.leaves[*leaf as usize].text.clone(),
        }
    }

    /// Whether a condition is true of every request: it asks whether there is what every request has, or
    /// whether a fact that every request has is this or not.
    fn always_true(&self, node: NodeId) -> bool {
        let has = |leaf: &Leaf| match &leaf.left {
            Expression::Fact(fact) => self.schema.definition(*fact).always,
            _ => false,
        };
        match &self.program.nodes[node] {
            Node::All(terms) => !terms.is_empty() && terms.iter().all(|term| self.always_true(*term)),
            Node::Any(terms) => {
                let excluded = |term: &NodeId| match &self.program.nodes[*term] {
                    Node::Not(inner) => terms.contains(inner) && self.has_all(*inner),
                    _ => false,
                };
                terms.iter().any(|term| self.always_true(*term)) || terms.iter().any(excluded)
            }
            Node::Leaf(leaf) => {
                let leaf = &self.program.leaves[*leaf as usize];
                has(leaf) && matches!(leaf.test, Test::Exists)
            }
            Node::Not(_) => false,
        }
    }

    /// Whether every request has all facts of a condition.
    fn has_all(&self, node: NodeId) -> bool {
        match &self.program.nodes[node] {
            Node::All(terms) | Node::Any(terms) => terms.iter().all(|term| self.has_all(*term)),
            Node::Not(inner) => self.has_all(*inner),
            Node::Leaf(leaf) => self.schema.definition(self.program.leaves[*leaf as usize].fact).always,
        }
    }

    /// Why a condition can never be true, where two of its terms exclude one another.
    fn never_true(&self, node: NodeId) -> Option<String> {
        let terms = match &self.program.nodes[node] {
            Node::All(terms) => terms,
            Node::Any(terms) if !terms.is_empty() => {
                return terms.iter().map(|term| self.never_true(*term)).collect::<Option<Vec<_>>>()?.pop();
            }
            _ => return None,
        };
        let mut wanted: HashMap<FactId, (String, Vec<&Value<'static>>)> = HashMap::new();
        for term in terms {
            if let Some(why) = self.never_true(*term) {
                return Some(why);
            }
            let Node::Leaf(leaf) = &self.program.nodes[*term] else { continue };
            let leaf = &self.program.leaves[*leaf as usize];
            let (Expression::Fact(fact), Some(values)) = (&leaf.left, one_of(&leaf.test)) else { continue };
            let same = |a: &Value<'_>, b: &Value<'_>| match (a, b) {
                (Value::Text(a), Value::Text(b)) => same_text(a, b, leaf.ignore_case),
                (a, b) => a == b,
            };
            match wanted.get_mut(fact) {
                None => drop(wanted.insert(*fact, (leaf.text.clone(), values))),
                Some((before, left)) => {
                    left.retain(|value| values.iter().any(|other| same(value, other)));
                    if left.is_empty() {
                        return Some(format!("`{before}` and `{}` are never true together", leaf.text));
                    }
                }
            }
        }
        None
    }
}

/// The single values of which a test takes one.
fn one_of(test: &Test) -> Option<Vec<&Value<'static>>> {
    match test {
        Test::Compare(Comparison::Equal, Expression::Literal(value)) => Some(vec![value]),
        Test::OneOf(values) => Some(values.iter().collect()),
        _ => None,
    }
}

/// The first entry of an access list before another that takes all that it would.
pub(super) fn hidden_by(acl: &Acl, place: usize) -> Option<usize> {
    let entry = &acl.entries[place];
    acl.entries[..place].iter().position(|before| covers(before, entry))
}

/// Whether every packet that fits an entry fits another.
fn covers(wide: &Entry, narrow: &Entry) -> bool {
    let protocol = wide.protocol == narrow.protocol || wide.protocol == crate::acl::Protocol::Ip;
    protocol
        && holds(&wide.from, &narrow.from)
        && holds(&wide.to, &narrow.to)
        && ports_hold(&wide.from_ports, &narrow.from_ports)
        && ports_hold(&wide.to_ports, &narrow.to_ports)
}

fn holds(wide: &Where, narrow: &Where) -> bool {
    match (wide, narrow) {
        (Where::Any, _) => true,
        (Where::Block(wide, length), Where::Block(narrow, longer)) => {
            longer >= length && block_holds(*wide, *length, *narrow)
        }
        (wide, narrow) => wide == narrow,
    }
}

fn ports_hold(wide: &[Port], narrow: &[Port]) -> bool {
    let within = |port: &Port| wide.iter().any(|known| known.first <= port.first && port.last <= known.last);
    wide.is_empty() || (!narrow.is_empty() && narrow.iter().all(within))
}
