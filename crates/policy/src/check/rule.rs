use crate::check::Checker;
use crate::diagnostic::Diagnostic;
use crate::parse::ast::{Comparison, ConsequenceItem, ObserveItem, Operand, RuleItem};
use crate::run::method::IdentityKind;
use crate::run::program::{Consequence, Observe, Off, Rule};
use crate::schema::Type;
use crate::value::Value;

impl Checker<'_> {
    /// A rule. When it counts is part of its condition, so that trails tell of it.
    pub(super) fn rule(&mut self, item: &RuleItem) -> Option<Rule> {
        let when = self.condition(&item.when);
        let then = self.consequence(&item.then);
        let from = self.instant(item.from.as_ref())?;
        let until = self.instant(item.until.as_ref())?;
        let off = match &item.off {
            None => None,
            Some(off) => Some(self.instant(off.until.as_ref())?.map_or(Off::Always, Off::Until)),
        };
        let when = when?;
        if let (Some(first), Some(last), Some(operand)) = (from, until, &item.until)
            && first >= last
        {
            let message = "this rule ends before it begins";
            self.report(Diagnostic::error("W142", operand.span(), message).note("`from` is the earlier moment"));
            return None;
        }
        let mut conditions = Vec::new();
        for (comparison, operand, at) in
            [(Comparison::GreaterOrEqual, item.from.as_ref(), from), (Comparison::Less, item.until.as_ref(), until)]
        {
            if let (Some(operand), Some(at)) = (operand, at) {
                conditions.push(self.moment(comparison, at, operand.span())?);
            }
        }
        match off {
            None => {}
            Some(Off::Always) => conditions.push(self.never()),
            Some(Off::Until(at)) => {
                let span = item.off.as_ref().map_or(item.title.span, |off| off.span);
                conditions.push(self.moment(Comparison::GreaterOrEqual, at, span)?);
            }
        }
        let when = match conditions.is_empty() {
            true => when,
            false => {
                conditions.push(when);
                self.all_of(conditions)
            }
        };
        if item.always && matches!(item.then, ConsequenceItem::Grant(_)) {
            let message = format!("rule \"{}\" refuses nobody", item.title.text);
            let note = "`always` is for a rule that refuses where its gate observes, too";
            self.report(Diagnostic::error("W143", item.title.span, message).note(note));
            return None;
        }
        Some(Rule {
            title: item.title.text.clone(),
            then: then?,
            span: item.title.span,
            always: item.always,
            off,
            copied_from: item.copied_from.as_ref().map(|title| title.text.clone()),
            from,
            until,
            when,
            spans: item.spans,
        })
    }

    /// What is given in the place of a refusal. That nobody is watched who failed a proof is part
    /// of its condition: it holds wherever a policy is asked.
    pub(super) fn observe(&mut self, item: &ObserveItem) -> Option<Observe> {
        let mut conditions = Vec::new();
        for kind in [IdentityKind::User, IdentityKind::Machine] {
            conditions.extend(self.no_failure_of(kind, item.span));
        }
        if let Some(condition) = &item.when {
            conditions.push(self.condition(condition)?);
        }
        Some(Observe { grants: self.grant_set(&item.grants)?, span: item.span, when: self.all_of(conditions) })
    }

    pub(super) fn consequence(&mut self, item: &ConsequenceItem) -> Option<Consequence> {
        match item {
            ConsequenceItem::Grant(names) => self.grant_set(names).map(Consequence::Grant),
            ConsequenceItem::Refuse(text) => self.text_for_person(text.as_ref()).map(Consequence::Refuse),
            ConsequenceItem::Silence => Some(Consequence::Silence),
        }
    }

    /// A moment, where one is said; none at all where it is wrong, which was told.
    #[allow(clippy::option_option)]
    fn instant(&mut self, operand: Option<&Operand>) -> Option<Option<i64>> {
        match operand {
            None => Some(None),
            Some(operand) => match self.literal(&Type::Instant, operand)? {
                Value::Instant(at) => Some(Some(at)),
                _ => None,
            },
        }
    }
}
