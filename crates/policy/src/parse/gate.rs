use crate::diagnostic::Diagnostic;
use crate::outline::{OutlineItem, OutlineKind};
use crate::parse::ast::*;
use crate::parse::notes::Role;
use crate::parse::parser::{Parser, Step};
use crate::run::method::{CertificateName, IdentityKind};
use crate::run::program::{Event, TellName};
use crate::source::Span;

/// What may follow an event.
const REACTIONS: [&str; 5] = ["refuse", "silence", "continue", "next", "use"];

const PARTS: [&str; 13] = [
    "when",
    "accept",
    "present",
    "trust",
    "identify",
    "lookup",
    "remember",
    "resume",
    "tell",
    "rule",
    "undetermined",
    "observe",
    "otherwise",
];

impl Parser {
    pub(crate) fn gate(&mut self) -> Step<GateItem> {
        let name = self.name(Role::Gate, "a name for the gate")?;
        let mut gate = GateItem {
            name,
            when: None,
            accept: Vec::new(),
            present: None,
            trust: None,
            remember: None,
            resume: None,
            identify: Vec::new(),
            lookups: Vec::new(),
            rules: Vec::new(),
            undetermined: None,
            tell_name: None,
            observe: None,
            otherwise: None,
            end: Span::default(),
        };
        self.block(&PARTS, |p| {
            let (start, inner) = (p.span(), p.outline.len());
            p.gate_part(&mut gate)?;
            // Rules note themselves, with their parts.
            if p.outline.len() == inner {
                let span = start.to(p.last_span());
                let word = p.word_at(start).to_owned();
                // Of these a gate has some for each kind of identity.
                let kind = match word.as_str() {
                    "identify" => gate.identify.last().map(|clause| &clause.kind.text),
                    "lookup" => gate.lookups.last().map(|clause| &clause.kind.text),
                    _ => None,
                };
                let name = kind.map_or_else(|| word.clone(), |kind| format!("{word} {kind}"));
                p.outline.push(OutlineItem { kind: OutlineKind::Part, name, gate: None, span, parts: Vec::new() });
            }
            Ok(())
        })?;
        Ok(gate)
    }

    fn gate_part(&mut self, gate: &mut GateItem) -> Step<()> {
        let start = self.span();
        let twice = |what: &str| Diagnostic::error("W112", start, format!("a gate has one `{what}`"));
        if self.take_word("when") {
            let condition = self.condition()?;
            if gate.when.replace(condition).is_some() {
                return Err(twice("when").note("join the two conditions with `and` or `or`"));
            }
        } else if self.take_word("accept") {
            let methods = self.list(Self::method)?;
            if !std::mem::replace(&mut gate.accept, methods).is_empty() {
                return Err(twice("accept").note("list all methods with commas between"));
            }
        } else if self.take_word("present") {
            self.expect_word("certificate")?;
            if gate.present.replace(self.text_of(Role::Certificate, "the name of a certificate, in quotes")?).is_some()
            {
                return Err(twice("present certificate"));
            }
        } else if self.take_word("trust") {
            if gate.trust.replace(self.trust()?).is_some() {
                return Err(twice("trust").note("a trust may hold several authorities"));
            }
        } else if self.take_word("remember") {
            self.expect_word("machine")?;
            if gate.remember.replace(self.operand()?).is_some() {
                return Err(twice("remember machine"));
            }
        } else if self.take_word("resume") {
            if gate.resume.replace(self.resume()?).is_some() {
                return Err(twice("resume"));
            }
        } else if self.take_word("identify") {
            gate.identify.push(self.identify()?);
        } else if self.take_word("lookup") {
            gate.lookups.push(self.lookup()?);
        } else if self.take_word("rule") {
            gate.rules.extend(self.rule()?);
        } else if self.take_word("tell") {
            self.expect_word("name")?;
            if gate
                .tell_name
                .replace(self.one_word(&TellName::ALL.map(|(word, _)| word), "proved, asked or none")?)
                .is_some()
            {
                return Err(twice("tell name"));
            }
        } else if self.take_word("undetermined") {
            if gate.undetermined.replace(self.reaction("refuse, silence or continue")?).is_some() {
                return Err(twice("undetermined"));
            }
        } else if self.is_word("observe") {
            if gate.observe.replace(self.observe()?).is_some() {
                return Err(twice("observe"));
            }
        } else if self.take_word("otherwise") {
            let consequence = self.consequence()?;
            gate.end = start.to(self.last_span());
            if gate.otherwise.replace(consequence).is_some() {
                return Err(twice("otherwise"));
            }
        } else {
            return Err(self.not_one_of("a part of the gate", &PARTS));
        }
        if gate.otherwise.is_some() && !self.is_sign("}") && !self.is_word("otherwise") {
            return Err(Diagnostic::error("W113", self.span(), "nothing may follow `otherwise` in a gate")
                .note("move `otherwise` to the end: it decides when no rule does"));
        }
        Ok(())
    }

    fn method(&mut self) -> Step<MethodItem> {
        let name = self.word_of(Role::Method, "a method")?;
        let mut inner = Vec::new();
        if self.take_sign("(") {
            inner = self.list(|p| p.word_of(Role::Inner, "an inner method"))?;
            self.expect_sign(")")?;
        }
        let bound = if self.is_word("bound") { Some(self.word("bound")?) } else { None };
        Ok(MethodItem { name, inner, bound })
    }

    fn trust(&mut self) -> Step<TrustItem> {
        let mut trust = TrustItem {
            name: self.text_of(Role::Trust, "the name of a trust, in quotes")?,
            names: Vec::new(),
            revocation: None,
        };
        self.block(&["machine", "user", "revocation"], |p| {
            if p.is_word("revocation") {
                let start = p.next().span;
                if trust.revocation.replace(p.revocation()?).is_some() {
                    return Err(Diagnostic::error("W112", start, "a trust has one `revocation`"));
                }
                return Ok(());
            }
            if !p.is_word("machine") && !p.is_word("user") {
                return Err(p.not_one_of("a part of the trust", &["machine", "user", "revocation"]));
            }
            let kind = p.word("machine or user")?;
            p.expect_word("from")?;
            trust.names.push((
                kind,
                p.list(|p| p.one_word(&CertificateName::ALL.map(|(word, _)| word), "a place in a certificate"))?,
            ));
            Ok(())
        })?;
        Ok(trust)
    }

    fn revocation(&mut self) -> Step<RevocationItem> {
        let sources = self.list(|p| p.one_word(&["crl", "ocsp"], "crl or ocsp"))?;
        let mut unreachable = None;
        if self.is_sign("{") {
            self.block(&["unreachable"], |p| {
                p.expect_word("unreachable")?;
                unreachable = Some(p.one_word(&["refuse", "continue"], "refuse or continue")?);
                Ok(())
            })?;
        }
        Ok(RevocationItem { sources, unreachable })
    }

    fn resume(&mut self) -> Step<ResumeItem> {
        if self.take_word("never") {
            return Ok(ResumeItem::Never);
        }
        self.expect_word("up")?;
        self.expect_word("to")?;
        Ok(ResumeItem::UpTo(self.operand()?))
    }

    fn identify(&mut self) -> Step<IdentifyItem> {
        let kind = self.one_word(&IdentityKind::ALL.map(|(word, _)| word), "user, machine or mac")?;
        self.expect_word("in")?;
        let stores = self.list(|p| p.word_of(Role::Store, "a store"))?;
        let name_from = if self.take_word("as") { Some(self.operand()?) } else { None };
        let mut bound = None;
        if self.is_word("bound") {
            bound = Some(self.word("bound")?);
            self.expect_word("by")?;
            self.expect_word("certificate")?;
        }
        let mut reactions = Vec::new();
        if self.is_sign("{") {
            self.block(&Event::ALL.map(|(word, _)| word), |p| {
                let event = p.word("an event")?;
                reactions.push((event, p.reaction("refuse, silence, continue, next or use stale")?));
                // Events may stand in one line with commas between.
                p.take_sign(",");
                Ok(())
            })?;
        }
        Ok(IdentifyItem { kind, stores, name_from, bound, reactions })
    }

    fn lookup(&mut self) -> Step<LookupItem> {
        let kind = self.one_word(&IdentityKind::ALL.map(|(word, _)| word), "user, machine or mac")?;
        self.expect_word("in")?;
        let stores = self.list(|p| p.word_of(Role::Store, "a store"))?;
        let by = if self.take_word("by") { Some(self.operand()?) } else { None };
        let mut unreachable = None;
        if self.is_sign("{") {
            self.block(&["unreachable"], |p| {
                let start = p.span();
                p.expect_word("unreachable")?;
                match unreachable.replace(p.reaction("refuse, silence, continue or use stale")?) {
                    Some(_) => Err(Diagnostic::error("W112", start, "a `lookup` has one `unreachable`")),
                    None => Ok(()),
                }
            })?;
        }
        Ok(LookupItem { kind, stores, by, unreachable })
    }

    fn reaction(&mut self, known: &str) -> Step<ReactionItem> {
        let word = self.one_word(&REACTIONS, known)?;
        let text = if word.text == "refuse" { self.optional_text() } else { None };
        let stale = if word.text == "use" {
            self.expect_word("stale")?;
            Some(self.operand()?)
        } else {
            None
        };
        Ok(ReactionItem { word, text, stale })
    }

    /// `None` where its parts could not be read, which is told already.
    fn rule(&mut self) -> Step<Option<RuleItem>> {
        let start = self.last_span();
        let title = self.text("a title in quotes")?;
        self.notes.name(title.span, Role::Rule, true);
        let always = self.take_word("always");
        let mut spans = RuleSpans { named: self.last_span(), ..RuleSpans::default() };
        let off = match self.is_word("off") {
            true => {
                let span = self.next().span;
                let until = if self.take_word("until") { Some(self.operand()?) } else { None };
                spans.off = span.to(self.last_span());
                Some(OffItem { span, until })
            }
            false => None,
        };
        let copied_from = match self.take_word("copied") {
            true => {
                let first = self.last_span();
                self.expect_word("from")?;
                let title = self.text_of(Role::Rule, "the title of a rule in quotes")?;
                spans.copied = first.to(title.span);
                Some(title)
            }
            false => None,
        };
        let from = if self.take_word("from") { Some(self.operand()?) } else { None };
        let until = if self.take_word("until") { Some(self.operand()?) } else { None };
        if !self.is_sign("{") {
            return Err(self.not_one_of("`{`", &["always", "off", "copied from", "from", "until", "{"]));
        }
        let head = start.to(self.last_span());
        let mut parts = vec![("head", head)];
        let (mut when, mut then) = (None, None);
        let told = self.diagnostics.len();
        self.block(&["when", "grant", "refuse", "silence"], |p| {
            let start = p.span();
            let part = if p.is_word("when") { "condition" } else { "result" };
            let (twice, what) = if p.take_word("when") {
                (when.replace(p.condition()?).is_some(), "`when`")
            } else {
                (then.replace(p.consequence()?).is_some(), "`grant`, `refuse` or `silence`")
            };
            parts.push((part, start.to(p.last_span())));
            match twice {
                true => Err(Diagnostic::error("W112", start, format!("a rule has one {what}"))),
                false => Ok(()),
            }
        })?;
        let span = start.to(self.last_span());
        spans.whole = span;
        let name = title.text.clone();
        self.outline.push(OutlineItem { kind: OutlineKind::Rule, name, gate: None, span, parts });
        if self.diagnostics.len() > told {
            return Ok(None);
        }
        let missing = |what: &str, note: &str| {
            Diagnostic::error("W114", title.span, format!("this rule has no {what}")).note(note)
        };
        let when =
            when.ok_or_else(|| missing("condition", "add `when ...`; what applies to everybody is `otherwise`"))?;
        let then = then.ok_or_else(|| missing("result", "add `grant NAME`, `refuse` or `silence`"))?;
        Ok(Some(RuleItem { title, always, off, copied_from, from, until, when, then, spans }))
    }

    fn observe(&mut self) -> Step<ObserveItem> {
        let span = self.next().span;
        let when = if self.take_word("when") { Some(self.condition()?) } else { None };
        self.expect_word("with")?;
        self.expect_word("grant")?;
        Ok(ObserveItem { span, when, grants: self.list(|p| p.word_of(Role::Grant, "the name of a grant"))? })
    }

    pub(crate) fn consequence(&mut self) -> Step<ConsequenceItem> {
        if self.take_word("grant") {
            Ok(ConsequenceItem::Grant(self.list(|p| p.word_of(Role::Grant, "the name of a grant"))?))
        } else if self.take_word("refuse") {
            Ok(ConsequenceItem::Refuse(self.optional_text()))
        } else if self.take_word("silence") {
            Ok(ConsequenceItem::Silence)
        } else {
            Err(self.not_one_of("a result", &["grant", "refuse", "silence"]))
        }
    }
}
