use crate::check::Checker;
use crate::diagnostic::Diagnostic;
use crate::grant::MOST_VALUE;
use crate::parse::ast::{ConsequenceItem, GateItem, IdentifyItem, LookupItem, Name, ReactionItem, ResumeItem};
use crate::run::index::RuleIndex;
use crate::run::method::{Accepted, IdentityKind, Method};
use crate::run::program::{Consequence, Event, Gate, Identify, Lookup, Reaction, TellName, Undetermined};
use crate::schema::KnownStore;
use regnant_base::did_you_mean;
use std::time::Duration;

/// How long an EAP session may be resumed where a gate does not say.
const RESUME: u32 = 8 * 3_600;
/// A decision takes no more comparisons; each value of a list is one.
const MAX_GATE_COMPARISONS: usize = 2_000_000;
/// More than this is refused.
const MAX_RULES: usize = 20_000;

impl Checker<'_> {
    pub(super) fn gate(&mut self, item: &GateItem) {
        let when = item.when.as_ref().and_then(|condition| self.condition(condition));
        if let Some(fact) = when.and_then(|node| self.late_fact(node)) {
            let name = self.schema.definition(fact).name.clone();
            self.report(
                Diagnostic::error("W401", item.name.span, format!("gate `{}` is chosen by `{name}`", item.name.text))
                    .label("chosen before that is known")
                    .note("a gate is chosen by nas.* and by what the first packet says in request.*; ask the rest in rules"),
            );
        }
        let accept: Vec<_> = item.accept.iter().filter_map(|method| self.accepted(method)).collect();
        self.once("method", item.accept.iter().map(|method| &method.name));
        self.distinct("rule", item.rules.iter().map(|rule| &rule.title));
        self.once("`identify` clause", item.identify.iter().map(|clause| &clause.kind));
        let identify: Vec<_> = item.identify.iter().filter_map(|clause| self.identify(clause)).collect();
        let lookups: Vec<_> = item.lookups.iter().filter_map(|clause| self.lookup(clause)).collect();
        let trust = item.trust.as_ref().and_then(|trust| self.trust(trust));
        self.complete(item, &accept, &identify);
        self.certified(item, &accept, &identify);
        if let Some(name) = &item.present {
            self.record("certificate", name, self.schema.certificates());
        }
        let remember_machine = item.remember.as_ref().and_then(|operand| self.seconds(operand));
        let resume = match &item.resume {
            None => RESUME,
            Some(ResumeItem::Never) => 0,
            Some(ResumeItem::UpTo(operand)) => self.seconds(operand).unwrap_or_default(),
        };
        let rules: Vec<_> = item.rules.iter().filter_map(|rule| self.rule(rule)).collect();
        let conditions = rules.iter().map(|rule| rule.when).chain(when);
        let comparisons: usize = conditions.map(|node| self.comparisons(node)).sum();
        // A gate that is refused decides nothing, and needs no index.
        let index = match comparisons <= MAX_GATE_COMPARISONS {
            true => RuleIndex::new(&self.program, &rules),
            false => RuleIndex::default(),
        };
        if comparisons > MAX_GATE_COMPARISONS {
            let message = format!("a decision of gate `{}` may take {comparisons} comparisons", item.name.text);
            let note = format!("at most {MAX_GATE_COMPARISONS}: split long lists, or ask groups in their place");
            self.report(Diagnostic::error("W221", item.name.span, message).note(note));
        }
        let otherwise = item.otherwise.as_ref().and_then(|consequence| self.consequence(consequence));
        let otherwise = otherwise.unwrap_or(Consequence::Refuse(None));
        let tell_name = item.tell_name.as_ref().and_then(|word| self.one_of("name", word, &TellName::ALL));
        let observe = item.observe.as_ref().and_then(|observe| self.observe(observe));
        let undetermined = item.undetermined.as_ref().and_then(|reaction| self.undetermined(reaction));
        self.program.gates.push(Gate {
            name: item.name.text.clone(),
            accept,
            present: item.present.as_ref().map(|name| name.text.clone()),
            trust,
            remember_machine,
            resume,
            identify,
            lookups,
            rules,
            otherwise,
            undetermined: undetermined.unwrap_or_default(),
            observe,
            tell_name,
            comparisons,
            when,
            index,
        });
    }

    /// What every gate must have.
    fn complete(&mut self, item: &GateItem, accept: &[Accepted], identify: &[Identify]) {
        let name = &item.name.text;
        let missing = |what: String, note: &str| Diagnostic::error("W402", item.name.span, what).note(note);
        let refuses_all = item.rules.is_empty() && matches!(item.otherwise, Some(ConsequenceItem::Refuse(_)));
        if item.accept.is_empty() && !refuses_all {
            self.report(missing(
                format!("gate `{name}` accepts no method"),
                "add `accept` with mac, pap, eap-tls, peap(eap-mschapv2) and the like",
            ));
        }
        if item.otherwise.is_none() {
            self.report(missing(
                format!("gate `{name}` does not say what happens otherwise"),
                "end it with `otherwise refuse`, or with `otherwise grant NAME` if everybody may come in",
            ));
        }
        if item.rules.len() > MAX_RULES {
            self.report(missing(format!("gate `{name}` has more than {MAX_RULES} rules"), "test groups and sets"));
        }
        for Accepted { method, .. } in accept {
            let proves = match method {
                Method::Mac => &[IdentityKind::Mac][..],
                _ => &[IdentityKind::User, IdentityKind::Machine],
            };
            let written = |kind: &IdentityKind| item.identify.iter().any(|clause| clause.kind.text == kind.word());
            if !proves.iter().any(|kind| written(kind) || identify.iter().any(|clause| clause.kind == *kind)) {
                let message = format!("gate `{name}` accepts {} and nothing proves it", method.word());
                self.report(missing(message, &format!("add `identify {} in STORE`", proves[0].word())));
            }
        }
    }

    fn identify(&mut self, item: &IdentifyItem) -> Option<Identify> {
        let kind = self.one_of("kind of identity", &item.kind, &IdentityKind::ALL)?;
        for store in &item.stores {
            self.store(kind, store, true);
        }
        let name_from = match &item.name_from {
            Some(operand) => {
                let (expression, fact) = self.text_expression(operand)?;
                let name = &self.schema.definition(fact).name;
                if kind == IdentityKind::Mac || !(name.starts_with("claimed.") || name.starts_with("request.")) {
                    let message = format!("the name to look up cannot come from `{name}`");
                    self.report(
                        Diagnostic::error("W403", operand.span(), message)
                            .note("`as` works on claimed.name, for users and machines"),
                    );
                    return None;
                }
                Some(expression)
            }
            None => None,
        };
        let mut reactions = Event::ALL.map(|(_, event)| event.default_reaction());
        self.next_beside_stale(item)?;
        self.once("event", item.reactions.iter().map(|(event, _)| event));
        for (event, reaction) in &item.reactions {
            let event = self.one_of("event", event, &Event::ALL)?;
            reactions[event as usize] = self.reaction(event, reaction)?;
            if event == Event::Unreachable && reactions[event as usize] == Reaction::Next && item.stores.len() < 2 {
                let message = "`next` cannot follow `unreachable`: there is no next store here";
                self.report(
                    Diagnostic::error("W405", reaction.word.span, message)
                        .note("name the store that may be asked meanwhile, or write refuse, silence or continue"),
                );
                return None;
            }
        }
        let stores = item.stores.iter().map(|store| self.program.store(&store.text)).collect();
        if let Some(bound) = item.bound.as_ref().filter(|_| kind == IdentityKind::Mac) {
            self.report(
                Diagnostic::error("W403", bound.span, "no certificate names a MAC address")
                    .note("`bound by certificate` is for users and machines"),
            );
            return None;
        }
        Some(Identify { kind, stores, name_from, bound: item.bound.is_some(), reactions })
    }

    /// What a silent store told earlier and what a later store proves are two answers to one question.
    fn next_beside_stale(&mut self, item: &IdentifyItem) -> Option<()> {
        let of = |word: &str| {
            let mut unreachable = item.reactions.iter().filter(|(event, _)| event.text == "unreachable");
            unreachable.find(|(_, reaction)| reaction.word.text == word).map(|(_, reaction)| reaction.word.span)
        };
        let (Some(next), Some(stale)) = (of("next"), of("use")) else { return Some(()) };
        let message = "`next` and `use stale` do not stand beside each other";
        self.report(
            Diagnostic::error("W405", next, message)
                .also(stale, "the other")
                .note("either what the silent store told earlier counts, or what a later store proves"),
        );
        None
    }

    fn lookup(&mut self, item: &LookupItem) -> Option<Lookup> {
        let kind = self.one_of("kind of identity", &item.kind, &IdentityKind::ALL)?;
        for store in &item.stores {
            self.store(kind, store, false);
        }
        let by = match &item.by {
            Some(operand) => Some(self.key_expression(operand)?),
            None => None,
        };
        let unreachable = match &item.unreachable {
            // Rules that need what nobody said are undetermined.
            None => Reaction::Continue,
            Some(reaction) if reaction.word.text == "next" => {
                let message =
                    "`next` cannot follow `unreachable` in a `lookup`: what a later store tells would count for all";
                self.report(
                    Diagnostic::error("W405", reaction.word.span, message)
                        .note("write refuse, silence, continue or use stale"),
                );
                return None;
            }
            Some(reaction) => self.reaction(Event::Unreachable, reaction)?,
        };
        let stores = item.stores.iter().map(|store| self.program.store(&store.text)).collect();
        Some(Lookup { kind, stores, by, unreachable })
    }

    /// A store that is named must hold what is looked up, and prove somebody where it `proves`.
    fn store(&mut self, kind: IdentityKind, name: &Name, proves: bool) {
        let Some(stores) = self.schema.stores() else { return };
        let fits = |store: &&KnownStore| store.holds == kind && !(proves && store.facts_only);
        let fitting = || stores.iter().filter(fits).map(|store| store.name.as_str());
        if fitting().any(|store| store == name.text) {
            return;
        }
        if self.may_be_there(&name.text) {
            // Each is told once, however many gates ask it.
            if !self.used.insert(("store", name.text.clone())) {
                return;
            }
            let message = format!("the inventory has no store `{}`", name.text);
            let known = fitting().map(str::to_owned).collect::<Vec<_>>();
            self.report(
                Diagnostic::warning("W518", name.span, message)
                    .suggest(did_you_mean(&name.text, known.iter().map(String::as_str)))
                    .note("a directory, or another service, is connected elsewhere; activation is an error where it is not there"),
            );
            return;
        }
        let message = match stores.iter().find(|store| store.name == name.text) {
            Some(store) if proves && store.facts_only => {
                format!("store `{}` tells facts and proves nobody: write `lookup`", name.text)
            }
            Some(_) => format!("store `{}` holds no identities of the kind `{}`", name.text, kind.word()),
            None => format!("there is no store `{}`", name.text),
        };
        let list: Vec<_> = fitting().collect();
        let diagnostic = Diagnostic::error("W404", name.span, message)
            .suggest(did_you_mean(&name.text, list.iter().copied()))
            .note(format!("stores that do: {}", if list.is_empty() { "none".into() } else { list.join(", ") }));
        self.report(diagnostic);
    }

    /// Whether a store that nobody knows may be there all the same.
    pub(super) fn may_be_there(&self, name: &str) -> bool {
        let known = self.schema.stores().is_some_and(|stores| stores.iter().any(|store| store.name == name));
        self.schema.more_stores() && !known
    }

    fn reaction(&mut self, event: Event, item: &ReactionItem) -> Option<Reaction> {
        let known = [("refuse", 0), ("silence", 1), ("continue", 2), ("next", 3), ("use", 4)];
        let reaction = match self.one_of("reaction", &item.word, &known)? {
            0 => Reaction::Refuse(self.text_for_person(item.text.as_ref())?),
            1 => Reaction::Silence,
            2 => Reaction::Continue,
            4 => match item.stale.as_ref() {
                Some(operand) => Reaction::UseStale(Duration::from_secs(self.seconds(operand)?.into())),
                None => return None,
            },
            _ => Reaction::Next,
        };
        if matches!(reaction, Reaction::UseStale(_)) && event != Event::Unreachable {
            let message = format!("`use stale` cannot follow `{}`", event.word());
            self.report(
                Diagnostic::error("W405", item.word.span, message)
                    .note("what was told earlier helps where a store is `unreachable`"),
            );
            return None;
        }
        // `unknown` is judged after the last store, `absent` before the first.
        if reaction == Reaction::Next && matches!(event, Event::Unknown | Event::Absent) {
            let message = format!("`next` cannot follow `{}`: there is no next store then", event.word());
            self.report(Diagnostic::error("W405", item.word.span, message).note("write refuse, silence or continue"));
            return None;
        }
        Some(reaction)
    }

    fn undetermined(&mut self, item: &ReactionItem) -> Option<Undetermined> {
        let known = [("refuse", 0), ("silence", 1), ("continue", 2)];
        Some(match self.one_of("reaction", &item.word, &known)? {
            0 => Undetermined::Refuse(self.text_for_person(item.text.as_ref())?),
            1 => Undetermined::Silence,
            _ => Undetermined::Continue,
        })
    }

    /// A text that fits one Reply-Message (RFC 2865 section 5.18).
    pub(super) fn text_for_person(&mut self, text: Option<&Name>) -> Option<Option<String>> {
        let Some(text) = text else { return Some(None) };
        if text.text.is_empty() || text.text.len() > MOST_VALUE {
            let message = format!("this text has {} bytes and may have 1 to {MOST_VALUE}", text.text.len());
            self.report(Diagnostic::error("W314", text.span, message));
            return None;
        }
        Some(Some(text.text.clone()))
    }
}
