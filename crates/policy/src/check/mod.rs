//! Tree to program: every name found, every type right, or a finding that says
//! what to write instead.

mod acl;
mod case;
mod certain;
mod condition;
mod gate;
pub(crate) mod grant;
mod list;
mod literal;
mod method;
mod odd;
mod rule;

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use jiff::tz::TimeZone;

use crate::diagnostic::Diagnostic;
use crate::edit::Mend;
pub(crate) use condition::FUNCTIONS;

use crate::parse::ast::{Define, ListItem, Name, Policy};
use crate::pipeline::MOST_DIAGNOSTICS;
use crate::run::case::Case;
use crate::run::program::{Program, TermId};
use crate::schema::{FactId, Names, Schema, Stage};
use crate::source::{Source, Span};
use crate::value::Value;
use regnant_base::did_you_mean;

/// A policy without a gate.
pub(crate) const NO_GATE: &str = "W409";

/// The state of one check.
pub(crate) struct Checker<'p> {
    schema: &'p Schema,
    source: &'p Source,
    program: Program,
    diagnostics: Vec<Diagnostic>,
    defines: HashMap<&'p str, &'p Define>,
    lists: HashMap<&'p str, &'p ListItem>,
    /// Members of lists, by the name and the type that they were read as.
    listed: HashMap<(&'p str, String), Option<Arc<[Value<'static>]>>>,
    zone: Option<TimeZone>,
    /// Compiled conditions by the name of their `define`; `None` failed.
    defined: HashMap<&'p str, Option<TermId>>,
    /// The defines that are being compiled now, to find circles.
    open: Vec<&'p str>,
    /// Titles of rules and names of grants as they are written, whether they checked or not: one mistake
    /// is told once.
    titles: HashSet<&'p str>,
    written_grants: HashSet<&'p str>,
    /// What is known of each node.
    weights: Vec<Weight>,
    /// Names of defines, acls and grants that something refers to.
    used: HashSet<(&'static str, String)>,
    /// Whether groups that no store has can be told: not where one is asked that nobody knows.
    groups_known: bool,
    /// Bytes that regular expressions may take yet.
    regex_room: usize,
}

/// What a node of a condition costs and needs.
#[derive(Clone, Copy, Default)]
pub(crate) struct Weight {
    /// How many comparisons it can take.
    comparisons: usize,
    /// How deep its parts are nested, defines written out.
    depth: usize,
    /// A fact in it that is not known from the first packet.
    late: Option<FactId>,
}

/// Checks a policy. The program is whole only where nothing found is an error.
pub(crate) fn check(policy: &Policy, source: &Source, schema: &Schema) -> (Program, Vec<Case>, Vec<Diagnostic>) {
    let mut checker = Checker {
        schema,
        source,
        program: Program::default(),
        diagnostics: Vec::new(),
        defines: HashMap::new(),
        lists: HashMap::new(),
        listed: HashMap::new(),
        zone: None,
        defined: HashMap::new(),
        open: Vec::new(),
        titles: HashSet::new(),
        written_grants: HashSet::new(),
        weights: Vec::new(),
        used: HashSet::new(),
        groups_known: true,
        regex_room: condition::REGEX_ROOM,
    };
    let cases = checker.policy(policy);
    (checker.program, cases, checker.diagnostics)
}

impl<'p> Checker<'p> {
    fn policy(&mut self, policy: &'p Policy) -> Vec<Case> {
        self.distinct("condition", policy.defines.iter().map(|item| &item.name));
        self.distinct("list", policy.lists.iter().map(|item| &item.name));
        self.distinct("access list", policy.acls.iter().map(|item| &item.name));
        self.distinct("grant", policy.grants.iter().map(|item| &item.name));
        self.distinct("gate", policy.gates.iter().map(|item| &item.name));
        self.distinct("case", policy.cases.iter().map(|item| &item.title));
        self.defines = policy.defines.iter().map(|item| (item.name.text.as_str(), item)).collect();
        self.lists = policy.lists.iter().map(|item| (item.name.text.as_str(), item)).collect();
        self.titles = policy.gates.iter().flat_map(|gate| &gate.rules).map(|rule| rule.title.text.as_str()).collect();
        self.written_grants = policy.grants.iter().map(|grant| grant.name.text.as_str()).collect();
        let mut stores = policy.gates.iter().flat_map(|gate| {
            gate.identify
                .iter()
                .flat_map(|clause| &clause.stores)
                .chain(gate.lookups.iter().flat_map(|clause| &clause.stores))
        });
        self.groups_known = !stores.any(|store| self.may_be_there(&store.text));
        self.zone = policy.zone.as_ref().and_then(|zone| self.zone(zone));
        for item in &policy.defines {
            self.define(&item.name.text);
        }
        self.acls(&policy.acls);
        self.grants(&policy.grants);
        for item in &policy.gates {
            self.gate(item);
        }
        // Where something else is wrong, a gate may only not have been read.
        if policy.gates.is_empty() && self.diagnostics.is_empty() {
            let end = self.source.main().len();
            let end = Span { start: end, end };
            self.report(
                Diagnostic::error(NO_GATE, end, "the policy has no gate, so it would refuse everybody")
                    .note("write a gate; where nobody shall come in, say so: `gate nobody { otherwise refuse }`"),
            );
        }
        let cases = policy.cases.iter().filter_map(|item| self.case(item)).collect();
        self.odd(policy);
        let mut items: Vec<_> =
            policy.outline.iter().filter(|item| item.gate.is_none()).map(|item| item.span).collect();
        items.sort_unstable_by_key(|span| span.start);
        self.unused("define", &items, policy.defines.iter().map(|item| &item.name));
        self.unused("list", &items, policy.lists.iter().map(|item| &item.name));
        self.unused("acl", &items, policy.acls.iter().map(|item| &item.name));
        self.unused("grant", &items, policy.grants.iter().map(|item| &item.name));
        cases
    }

    fn report(&mut self, diagnostic: Diagnostic) {
        self.diagnostics.push(diagnostic);
    }

    /// Tells every name that stands twice.
    /// Names that people chose must differ.
    fn distinct<'n>(&mut self, what: &str, names: impl Iterator<Item = &'n Name>) {
        self.repeated(names, |name| format!("there are two {what}s called `{name}`"), "give one of them another name");
    }

    /// Words of the language stand once in a list.
    fn once<'n>(&mut self, what: &str, names: impl Iterator<Item = &'n Name>) {
        self.repeated(names, |name| format!("the {what} `{name}` is there twice"), "remove one of them");
    }

    fn repeated<'n>(
        &mut self,
        names: impl Iterator<Item = &'n Name>,
        message: impl Fn(&str) -> String,
        note: &'static str,
    ) {
        let mut first: HashMap<&str, &Name> = HashMap::new();
        for name in names {
            if let Some(before) = first.get(name.text.as_str()) {
                self.diagnostics.push(
                    Diagnostic::error("W203", name.span, message(&name.text))
                        .label("the second")
                        .also(before.span, "the first")
                        .note(note),
                );
            } else {
                first.insert(&name.text, name);
            }
        }
    }

    /// Names that nothing refers to, among items that stand in this order.
    fn unused<'n>(&mut self, keyword: &'static str, items: &[Span], names: impl Iterator<Item = &'n Name>) {
        for name in names {
            if !self.used.contains(&(keyword, name.text.clone())) {
                let message = format!("nothing uses {keyword} `{}`", name.text);
                let found = Diagnostic::warning("W501", name.span, message).note("use it or remove it");
                let begun = items.partition_point(|item| item.start <= name.span.start);
                let whole = begun.checked_sub(1).map(|place| Mend::Without("remove it", items[place]));
                self.diagnostics.push(whole.into_iter().fold(found, Diagnostic::mend));
            }
        }
    }

    /// The name that may be meant, among many; not sought for findings that nobody is shown.
    fn meant<'n>(&self, name: &str, known: &'n Names) -> Option<&'n str> {
        match self.diagnostics.len() < MOST_DIAGNOSTICS {
            true => did_you_mean(name, known.iter()),
            false => None,
        }
    }

    fn mark_used(&mut self, keyword: &'static str, name: &str) {
        self.used.insert((keyword, name.to_owned()));
    }

    /// The fact of this name, or a finding.
    fn fact(&mut self, name: &Name) -> Option<FactId> {
        let found = self.schema.find(&name.text);
        if found.is_none() {
            let message = format!("there is no fact `{}`", name.text);
            let suggestion = did_you_mean(&name.text, self.schema.names());
            self.report(Diagnostic::error("W201", name.span, message).suggest(suggestion));
        }
        if let Some(id) = found
            && self.schema.definition(id).known == Stage::End
        {
            let message = format!("`{}` is known only after the rules", name.text);
            self.report(Diagnostic::error("W201", name.span, message).note(
                "the journal tells it; what a method must do stands in `accept`, such as `peap(eap-mschapv2) bound`",
            ));
        }
        found
    }

    /// One of a fixed list of words, or a finding that lists them.
    fn one_of<T: Copy>(&mut self, what: &str, name: &Name, known: &[(&'static str, T)]) -> Option<T> {
        let found = known.iter().find(|(word, _)| *word == name.text).map(|(_, value)| *value);
        if found.is_none() {
            let words: Vec<_> = known.iter().map(|(word, _)| *word).collect();
            self.report(
                Diagnostic::error("W202", name.span, format!("`{}` is no {what}", name.text))
                    .suggest(did_you_mean(&name.text, words.iter().copied()))
                    .note(format!("{what}s are: {}", words.join(", "))),
            );
        }
        found
    }
}
