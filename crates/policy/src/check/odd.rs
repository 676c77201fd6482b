//! What is odd about a policy and works all the same. What is not certain is not said.

use std::collections::{HashMap, HashSet};

use regnant_base::go_on;

use crate::check::Checker;
use crate::check::certain::Certain;
use crate::diagnostic::Diagnostic;
use crate::edit::Mend;
use crate::parse::ast::{GateItem, Name, Policy, ReactionItem};
use crate::run::method::{Accepted, IdentityKind, Method};
use crate::run::program::{
    Consequence, Event, Expression, Gate, Leaf, Program, Rule, Term, TermId, Test, Undetermined,
};
use crate::run::{Facts, Known};
use crate::schema::{FactId, Type};
use crate::value::Value;

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
        }
        let program = std::mem::take(&mut self.program);
        self.no_such_equipment(&program.leaves);
        let gates: HashMap<&str, &Gate> = program.gates.iter().map(|gate| (gate.name.as_str(), gate)).collect();
        let mut certain = Certain::new(&program, self.schema);
        for item in &policy.gates {
            if let Some(gate) = gates.get(item.name.text.as_str()) {
                self.certain_of_rules(&mut certain, gate);
                self.weak_methods(&program, item, gate);
                self.unchecked_methods(&program, item, gate);
                self.permissive(item, gate);
                self.remembers(&program, item, gate);
                self.watched_without_proof(item, gate);
                self.next_while_silent(item, gate);
            }
        }
        self.program = program;
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

    /// Names of equipment, its sites and its tags that none has. A list is looked at once for a fact, however
    /// many rules ask it.
    fn no_such_equipment(&mut self, leaves: &[Leaf]) {
        let mut looked_at = HashSet::new();
        for leaf in leaves {
            let Some(known) = self.schema.values(leaf.fact).filter(|known| !known.is_empty()) else { continue };
            let names = leaf.names();
            if !looked_at.insert((leaf.fact, names.as_ptr(), names.len())) {
                continue;
            }
            for name in names.iter().filter_map(Value::as_text).filter(|name| !known.has(name)) {
                let what = &self.schema.definition(leaf.fact).name;
                let found = Diagnostic::warning("W519", leaf.span, format!("no NAS has `{what}` \"{name}\""));
                self.report(match self.meant(name, known) {
                    Some(meant) => found.note(format!("did you mean \"{meant}\"?")),
                    None => found.note("it is mistyped, or such equipment is not registered yet"),
                });
            }
        }
    }

    /// Rules that never decide.
    fn certain_of_rules(&mut self, certain: &mut Certain<'_>, gate: &Gate) {
        let title = |place: usize| gate.rules[place].title.clone();
        let mut conditions: HashMap<u32, usize> = HashMap::new();
        for (place, rule) in gate.rules.iter().enumerate() {
            go_on();
            // Where both say the same the first decides; only where one that grants is passed over for want
            // of an answer, another that refuses is not.
            let before = *conditions.entry(certain.meaning(rule.when)).or_insert(place);
            if before != place && gate.undetermined != Undetermined::Continue {
                let message =
                    format!("rule \"{}\" never decides: \"{}\" has the same condition", rule.title, title(before));
                self.report(
                    Diagnostic::warning("W511", rule.span, message)
                        .also(gate.rules[before].span, "the first")
                        .note("change the condition of one of them, or remove the second")
                        .mend(Mend::Without("remove the second", rule.spans.whole)),
                );
            }
            if let Some(why) = certain.never_true(rule.when).filter(|_| rule.off.is_none()) {
                let message = format!("rule \"{}\" never decides: {why}", rule.title);
                self.report(
                    Diagnostic::warning("W512", rule.span, message)
                        .note("see whether `or` is meant in the place of `and`"),
                );
            }
        }
        if let Some(place) = gate.rules.iter().position(|rule| certain.always_true(rule.when))
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
    }

    /// Methods that a listener can guess passwords from.
    fn weak_methods(&mut self, program: &Program, item: &GateItem, gate: &Gate) {
        if gate.identify(IdentityKind::User).is_none() {
            return;
        }
        for (accepted, written) in gate.accept.iter().zip(&item.accept) {
            let Accepted { method, .. } = accepted;
            let (over_networks, why) = match method {
                Method::EapMd5 => (
                    self.may_be_for_networks(program, gate, "eap"),
                    "shows whoever listens what a password can be guessed from, and gives no keys",
                ),
                Method::Pap => (self.may_be_for_networks(program, gate, "pap"), "has the NAS see every password"),
                Method::Chap => (self.may_be_for_networks(program, gate, "chap"), GUESSED),
                Method::MsChap => (self.may_be_for_networks(program, gate, "mschap"), GUESSED),
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

    /// Methods whose credentials none of the gate's stores can check: whoever uses them is always refused.
    fn unchecked_methods(&mut self, program: &Program, item: &GateItem, gate: &Gate) {
        let Some(known) = self.schema.stores() else { return };
        let clauses = || gate.identify.iter().filter(|clause| clause.kind != IdentityKind::Mac);
        let mut names: Vec<_> =
            clauses().flat_map(|clause| &clause.stores).map(|id| program.stores[id.place()].as_str()).collect();
        names.sort_unstable();
        names.dedup();
        let stores: Vec<_> = names.iter().map(|name| known.iter().find(|store| store.name == *name)).collect();
        // Of a store that is not known nobody knows what it can.
        if stores.is_empty() || stores.iter().any(Option::is_none) {
            return;
        }
        let stores: Vec<_> = stores.into_iter().flatten().map(|store| store.checks).collect();
        let mut told = Vec::new();
        for (accepted, written) in gate.accept.iter().zip(&item.accept) {
            let inner = accepted.inner.iter().zip(&written.inner).map(|(inner, name)| (inner.credential(), name));
            let outer = (accepted.method.credential(), &written.name);
            for (credential, name) in inner.chain([outer]) {
                let Some((credential, check)) = credential else { continue };
                if !stores.iter().any(check) {
                    told.push((name.span, credential, accepted.show()));
                }
            }
        }
        for (span, credential, method) in told {
            let (gate, asked) = (&gate.name, names.join(" and "));
            let message = format!("gate `{gate}` accepts {method}, and {asked} cannot check {credential}");
            self.report(Diagnostic::warning("W522", span, message).note(
                "use a method that carries the password itself, such as ttls(pap) or peap(eap-gtc), or have the store able to check it",
            ));
        }
    }

    /// Whether the gate may take somebody who asks for a network with a credential that comes so. What its
    /// `when` asks beside counts as open.
    fn may_be_for_networks(&self, program: &Program, gate: &Gate, carrier: &str) -> bool {
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
        let truth = |when| program.truth(when, &facts, &mut ());
        gate.when.map(truth).is_none_or(|truth| truth.is_true() || truth.might_be_true())
    }

    /// `otherwise` gives what a rule gives to somebody who is somebody.
    fn permissive(&mut self, item: &GateItem, gate: &Gate) {
        let Consequence::Grant(everybody) = gate.otherwise else { return };
        let same = gate.rules.iter().find(|rule| rule.then == Consequence::Grant(everybody));
        if let Some(rule) = same {
            let message = format!("gate `{}` gives everybody what rule \"{}\" gives to some", gate.name, rule.title);
            let found = Diagnostic::warning("W514", item.name.span, message)
                .also(rule.span, "the rule")
                .note("end the gate with `otherwise refuse`: whom the rule does not fit is given the same as it is")
                .mend(Mend::Texts("refuse everybody else", vec![(item.end, "otherwise refuse")]));
            self.report(found);
        }
    }

    /// A gate that is watched refuses whoever failed a proof, though it lets them on to its rules.
    fn watched_without_proof(&mut self, item: &GateItem, gate: &Gate) {
        let Some(observe) = &gate.observe else { return };
        let proofs = item.identify.iter().filter(|clause| clause.kind.text != IdentityKind::Mac.word());
        let going_on = proofs
            .flat_map(|clause| &clause.reactions)
            .find(|(event, reaction)| reaction.word.text == "continue" && event.text != Event::Absent.word());
        if let Some((event, reaction)) = going_on {
            let message = format!("gate `{}` is watched, and goes on after `{}`", gate.name, event.text);
            self.report(
                Diagnostic::warning("W520", reaction.word.span, message)
                    .also(observe.span, "watched here")
                    .note("whoever is not proved is refused all the same, and not observed: let a rule say what they are given"),
            );
        }
    }

    /// An account of the same name in a later store is another account.
    fn next_while_silent(&mut self, item: &GateItem, gate: &Gate) {
        for clause in &item.identify {
            let next = |(event, reaction): &&(Name, ReactionItem)| {
                event.text == Event::Unreachable.word() && reaction.word.text == "next"
            };
            let (Some((_, reaction)), [first, .., last]) = (clause.reactions.iter().find(next), &clause.stores[..])
            else {
                continue;
            };
            let same = match clause.kind.text == IdentityKind::Mac.word() {
                true => "a device of the same address",
                false => "an account of the same name",
            };
            let message =
                format!("while `{}` is silent, gate `{}` takes {same} from `{}`", first.text, gate.name, last.text);
            self.report(Diagnostic::warning("W521", reaction.word.span, message).note(
                "whom the silent store would refuse gets in by the account, the credential and the groups that a later one has: \
                 keep only those there who may get in without it",
            ));
        }
    }

    /// A machine that is remembered is known by an address that anybody can set.
    fn remembers(&mut self, program: &Program, item: &GateItem, gate: &Gate) {
        if gate.remember_machine.is_none() {
            return;
        }
        let asks = |rule: &&Rule| {
            // Whoever asks how or when it was proved tells the one from the other.
            let tells_apart = ["machine.proof", "machine.age"].iter().any(|fact| self.asks(program, rule.when, fact));
            matches!(rule.then, Consequence::Grant(_))
                && self.asks_for_a_machine(program, rule.when, false)
                && !tells_apart
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
    fn asks(&self, program: &Program, node: TermId, fact: &str) -> bool {
        match program.term(node) {
            Term::All(terms) | Term::Any(terms) => terms.iter().any(|term| self.asks(program, *term, fact)),
            Term::Not(inner) => self.asks(program, *inner, fact),
            Term::Asks(leaf) => self.schema.definition(program.leaf(*leaf).fact).name == fact,
        }
    }

    /// Whether a condition asks that a machine is proved, or what it is, and not that it is not.
    fn asks_for_a_machine(&self, program: &Program, node: TermId, negated: bool) -> bool {
        match program.term(node) {
            Term::All(terms) | Term::Any(terms) => {
                terms.iter().any(|term| self.asks_for_a_machine(program, *term, negated))
            }
            Term::Not(inner) => self.asks_for_a_machine(program, *inner, !negated),
            Term::Asks(leaf) => {
                let name = &self.schema.definition(program.leaf(*leaf).fact).name;
                let leaf = program.leaf(*leaf);
                let is_not = matches!(&leaf.test, Test::Compare(_, Expression::Literal(Value::Boolean(false))));
                negated == is_not && ["machine.proved", "machine.groups", "machine.name"].contains(&name.as_str())
            }
        }
    }
}
