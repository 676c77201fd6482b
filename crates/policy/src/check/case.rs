use crate::check::Checker;
use crate::diagnostic::Diagnostic;
use crate::grant::Statement;
use crate::parse::ast::{ByItem, CaseItem, ConsequenceItem, GivenValue, Name, Operand, StatementItem};
use crate::run::Known;
use crate::run::case::{By, Case, Expected, StatedFacts};
use crate::run::method::Method;
use crate::schema::{Stage, Type};
use crate::value::Value;
use regnant_base::did_you_mean;

impl Checker<'_> {
    pub(super) fn case(&mut self, item: &CaseItem) -> Option<Case> {
        let mut given = StatedFacts::default();
        let mut methods = None;
        for (name, value) in &item.given {
            let id = self.fact(name)?;
            let definition = self.schema.definition(id);
            let (kind, stage) = (definition.kind.clone(), definition.known);
            let known = self.given_value(&kind, value)?;
            if stage == Stage::FirstPacket && known == Known::Unanswered {
                let message = format!("`{}` is never unanswered", name.text);
                let note = "the request itself says it; leave it out where it is absent";
                self.report(Diagnostic::error("W605", name.span, message).note(note));
            }
            if let ("request.carrier", Known::Is(read)) = (name.text.as_str(), &known) {
                let word = kind.show(read);
                let fits = |(known, method): &&(&str, Method)| match word.as_str() {
                    "eap" => method.is_eap(),
                    "mschap" => matches!(method, Method::MsChap | Method::MsChapV2),
                    word => *known == word,
                };
                methods = Some(Method::ALL.iter().filter(fits).map(|(_, method)| *method).collect());
            }
            if given.0.insert(id, known).is_some() {
                self.report(Diagnostic::error("W602", name.span, format!("`{}` is given twice", name.text)));
            }
        }
        let expect = self.expected(&item.expect)?;
        let by = match &item.by {
            Some(ByItem::Rule(title)) => Some(self.rule_titled(title)?),
            Some(ByItem::Otherwise) => Some(By::Otherwise),
            None => None,
        };
        let with = item.with.iter().map(|part| self.expected_statement(part)).collect::<Option<Vec<_>>>()?;
        Some(Case {
            title: item.title.text.clone(),
            now: item.now,
            given,
            methods,
            expect,
            by,
            with,
            titled: item.title.span,
            span: item.expect_span,
        })
    }

    fn expected_statement(&mut self, item: &StatementItem) -> Option<Statement> {
        let plan = self.statement(item)?;
        if plan.varies() {
            let message = "a case expects a value, and not a fact";
            self.report(Diagnostic::error("W606", item.keyword.span, message));
            return None;
        }
        Some(plan.longest())
    }

    fn given_value(&mut self, kind: &Type, value: &GivenValue) -> Option<Known<Value<'static>>> {
        match (kind, value) {
            (_, GivenValue::Unanswered) => Some(Known::Unanswered),
            (Type::Set(of), GivenValue::Set(members)) => {
                let members = members.iter().map(|member| self.literal(of, member)).collect::<Option<Vec<_>>>()?;
                Some(Known::Is(Value::set(members)))
            }
            (kind, GivenValue::One(operand)) => self.literal(kind, operand).map(Known::Is),
            (kind, GivenValue::Set(members)) => {
                let span = members.first().map_or_else(Default::default, Operand::span);
                let message = format!("a set is given for what is {}", kind.describe());
                self.report(Diagnostic::error("W603", span, message).note("give one value, without braces"));
                None
            }
        }
    }

    fn expected(&mut self, item: &ConsequenceItem) -> Option<Expected> {
        match item {
            ConsequenceItem::Refuse(_) => Some(Expected::Refuse),
            ConsequenceItem::Silence => Some(Expected::Silence),
            ConsequenceItem::Grant(names) => {
                for name in names {
                    if !self.written_grants.contains(name.text.as_str()) {
                        let suggestion = did_you_mean(&name.text, self.written_grants.iter().copied());
                        let message = format!("there is no grant `{}`", name.text);
                        self.report(Diagnostic::error("W318", name.span, message).suggest(suggestion));
                        return None;
                    }
                }
                let mut names: Vec<_> = names.iter().map(|name| name.text.clone()).collect();
                names.sort();
                Some(Expected::Grant(names))
            }
        }
    }

    fn rule_titled(&mut self, title: &Name) -> Option<By> {
        if !self.titles.contains(title.text.as_str()) {
            let suggestion = did_you_mean(&title.text, self.titles.iter().copied());
            let message = format!("there is no rule \"{}\"", title.text);
            self.report(Diagnostic::error("W604", title.span, message).suggest(suggestion));
            return None;
        }
        Some(By::Rule(title.text.clone()))
    }
}
