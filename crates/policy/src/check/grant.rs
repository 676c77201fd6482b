use std::collections::HashMap;
use std::ops::RangeInclusive;

use crate::check::Checker;
use crate::diagnostic::Diagnostic;
use crate::grant::{Grant, STATEMENTS, Statement, StatementKind, StatementValue, Takes};
use crate::parse::ast::{GrantItem, Name, Operand, StatementItem};
use crate::schema::Type;
use crate::source::Span;
use crate::value::Value;
use regnant_base::did_you_mean;

/// A longer chain of `extends` is refused: nobody can follow it.
const MAX_EXTENDS: usize = 16;

/// RFC 2865 section 5: a value has at most 253 bytes.
pub(super) const MAX_TEXT: usize = 253;

impl Checker<'_> {
    pub(super) fn grants(&mut self, items: &[GrantItem]) {
        let by_name: HashMap<&str, &GrantItem> = items.iter().map(|item| (item.name.text.as_str(), item)).collect();
        for item in items {
            let statements = self.whole(item, &by_name, &mut Vec::new());
            self.program.grants.push(Grant { name: item.name.text.clone(), statements });
        }
    }

    /// The statements of a grant with those it inherits.
    fn whole<'g>(
        &mut self,
        item: &'g GrantItem,
        by_name: &HashMap<&str, &'g GrantItem>,
        open: &mut Vec<&'g str>,
    ) -> Vec<Statement> {
        if open.contains(&item.name.text.as_str()) {
            let message = format!("grant `{}` extends itself", item.name.text);
            self.report(Diagnostic::error("W311", item.name.span, message));
            return Vec::new();
        }
        if open.len() >= MAX_EXTENDS {
            let message = format!("more than {MAX_EXTENDS} grants extend one another");
            self.report(
                Diagnostic::error("W311", item.name.span, message).note("let the grants build on fewer others"),
            );
            return Vec::new();
        }
        let own = self.own_statements(item);
        let Some(base) = &item.extends else { return own };
        let Some(base_item) = by_name.get(base.text.as_str()) else {
            self.no_grant(base, by_name.keys().copied().collect());
            return own;
        };
        self.mark_used("grant", &base.text);
        open.push(&item.name.text);
        let reported = self.diagnostics.len();
        let inherited = self.whole(base_item, by_name, open);
        open.pop();
        if open.is_empty() && !self.diagnostics[reported..].iter().any(|d| d.code == "W311") {
            // The base is checked for itself too, and says this there.
            self.diagnostics.truncate(reported);
        }
        let overridden = |statement: &Statement| own.iter().any(|mine| mine.kind.place == statement.kind.place);
        inherited.into_iter().filter(|statement| !overridden(statement)).chain(own.clone()).collect()
    }

    fn own_statements(&mut self, item: &GrantItem) -> Vec<Statement> {
        let mut found: Vec<(Statement, Span)> = Vec::new();
        for part in &item.statements {
            let Some(statement) = self.statement(part) else { continue };
            let clash =
                found.iter().find(|(other, _)| other.kind.place == statement.kind.place && !statement.kind.repeats);
            if let Some((_, first)) = clash {
                let message = format!("a grant has one `{}`", statement.kind.place);
                let first = *first;
                self.report(Diagnostic::error("W312", part.keyword.span, message).also(first, "the first"));
                continue;
            }
            found.push((statement, part.keyword.span));
        }
        found.into_iter().map(|(statement, _)| statement).collect()
    }

    pub(super) fn statement(&mut self, item: &StatementItem) -> Option<Statement> {
        let Some(kind) = StatementKind::of(&item.keyword.text) else {
            self.one_of("statement of a grant", &item.keyword, &STATEMENTS.each_ref().map(|kind| (kind.keyword, ())))?;
            return None;
        };
        let value = &item.value;
        let value = match &kind.takes {
            Takes::Vlan if matches!(value, Operand::Text(_)) => StatementValue::Text(self.short_text(value)?),
            Takes::Vlan => StatementValue::Number(self.number(value, &(1..=4094), "a VLAN")?),
            Takes::Text => StatementValue::Text(self.short_text(value)?),
            Takes::Acl => StatementValue::Acl(self.acl_name(value)?),
            Takes::Duration => StatementValue::Duration(self.seconds(value)?),
            Takes::Number(range, what) => StatementValue::Number(self.number(value, range, what)?),
            Takes::Word(words) => StatementValue::Text(self.word(kind.keyword, words, value)?),
        };
        Some(Statement { kind, value })
    }

    fn number(&mut self, value: &Operand, range: &RangeInclusive<i64>, what: &str) -> Option<i64> {
        let Value::Integer(number) = self.literal(&Type::Integer, value)? else { return None };
        if !range.contains(&number) {
            let message = format!("{what} is {} to {}", range.start(), range.end());
            self.report(Diagnostic::error("W313", value.span(), message));
            return None;
        }
        Some(number)
    }

    fn short_text(&mut self, value: &Operand) -> Option<String> {
        let Value::Text(text) = self.literal(&Type::Text { ignore_case: false }, value)? else { return None };
        // Tunnel-Private-Group-ID gives one byte to its tag.
        if text.is_empty() || text.len() >= MAX_TEXT {
            let message = format!("this text has {} bytes and may have 1 to {}", text.len(), MAX_TEXT - 1);
            self.report(Diagnostic::error("W314", value.span(), message));
            return None;
        }
        Some(text.into_owned())
    }

    fn acl_name(&mut self, value: &Operand) -> Option<String> {
        let Operand::Word(name) = value else {
            self.report(
                Diagnostic::error("W315", value.span(), "`acl` takes the bare name of an access list")
                    .note("for a list that is configured on the NAS, write `filter \"name\"`"),
            );
            return None;
        };
        let known: Vec<&str> = self.program.acls.iter().map(|acl| acl.name.as_str()).collect();
        if !known.contains(&name.text.as_str()) {
            let diagnostic = Diagnostic::error("W316", name.span, format!("there is no access list `{}`", name.text))
                .suggest(did_you_mean(&name.text, known));
            self.report(diagnostic);
            return None;
        }
        self.mark_used("acl", &name.text);
        Some(name.text.clone())
    }

    fn word(&mut self, keyword: &str, words: &[&'static str], value: &Operand) -> Option<String> {
        let known: Vec<_> = words.iter().map(|word| (*word, *word)).collect();
        match value {
            Operand::Word(word) => self.one_of(keyword, word, &known).map(str::to_owned),
            _ => {
                let message = format!("`{keyword}` takes a bare word");
                let note = format!("there are: {}", words.join(", "));
                self.report(Diagnostic::error("W317", value.span(), message).note(note));
                None
            }
        }
    }

    fn no_grant(&mut self, name: &Name, known: Vec<&str>) {
        self.report(
            Diagnostic::error("W318", name.span, format!("there is no grant `{}`", name.text))
                .suggest(did_you_mean(&name.text, known)),
        );
    }

    /// The number of a combination of grants, which must not contradict itself.
    pub(super) fn grant_set(&mut self, names: &[Name]) -> Option<usize> {
        let mut set = Vec::new();
        let mut slots: HashMap<&'static str, String> = HashMap::new();
        for name in names {
            let Some(index) = self.program.grants.iter().position(|grant| grant.name == name.text) else {
                let known: Vec<String> = self.program.grants.iter().map(|grant| grant.name.clone()).collect();
                self.no_grant(name, known.iter().map(String::as_str).collect());
                return None;
            };
            self.mark_used("grant", &name.text);
            for statement in self.program.grants[index].statements.clone() {
                let before = slots.insert(statement.kind.place, name.text.clone());
                if let (Some(other), false) = (before, statement.kind.repeats) {
                    if other == name.text {
                        continue;
                    }
                    let message = format!("grants `{other}` and `{}` both say `{}`", name.text, statement.kind.place);
                    self.report(
                        Diagnostic::error("W319", name.span, message)
                            .note("a single value can come from one of them only; use `extends` to override"),
                    );
                    return None;
                }
            }
            set.push(index);
        }
        let known = self.program.grant_sets.iter().position(|other| *other == set);
        Some(known.unwrap_or_else(|| {
            self.program.grant_sets.push(set);
            self.program.grant_sets.len() - 1
        }))
    }
}
