use std::collections::HashMap;
use std::net::IpAddr;
use std::ops::RangeInclusive;

use crate::check::Checker;
use crate::diagnostic::Diagnostic;
use crate::grant::{
    Content, FieldKind, Grant, MOST_VALUE, MOST_VLAN_NAME, Plan, STATEMENTS, StatementKind, StatementValue, Takes,
    VLANS, read_rate,
};
use crate::parse::ast::{FieldItem, GrantItem, Name, Operand, StatementItem};
use crate::schema::Type;
use crate::source::Span;
use crate::value::{Value, show_duration};
use regnant_base::did_you_mean;

/// A longer chain of `extends` is refused: nobody can follow it.
const MAX_EXTENDS: usize = 16;

/// What `send` carries may go on in several attributes, where it is of such a type.
const MOST_SENT: usize = 3_000;

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
    ) -> Vec<Plan> {
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
        let overridden = |statement: &Plan| own.iter().any(|mine| mine.kind.place == statement.kind.place);
        inherited.into_iter().filter(|statement| !overridden(statement)).chain(own.clone()).collect()
    }

    fn own_statements(&mut self, item: &GrantItem) -> Vec<Plan> {
        let mut found: Vec<(Plan, Span)> = Vec::new();
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

    pub(super) fn statement(&mut self, item: &StatementItem) -> Option<Plan> {
        let Some(kind) = StatementKind::of(&item.keyword.text) else {
            self.one_of("statement of a grant", &item.keyword, &STATEMENTS.each_ref().map(|kind| (kind.keyword, ())))?;
            return None;
        };
        if let Some(name) = &item.attribute {
            let is_secret = matches!(item.fields.first(), Some(FieldItem { value: Some(Operand::Secret(_)), .. }));
            self.attribute(name, is_secret)?;
        }
        let mut values: Vec<(&'static FieldKind, Content)> = Vec::new();
        for part in &item.fields {
            let word = part.word.as_ref().map_or("", |word| word.text.as_str());
            let field = kind.fields.iter().find(|field| field.word == word)?;
            if let (Some(again), true) = (&part.word, values.iter().any(|(known, _)| *known == field)) {
                self.report(Diagnostic::error("W322", again.span, format!("`{word}` is said twice")));
                return None;
            }
            values.push((field, self.content(kind, field, part)?));
        }
        let said = |field: &&FieldKind| values.iter().any(|(known, _)| known == field);
        let mut missing: Vec<_> = kind.fields.iter().filter(|field| !field.optional && !said(field)).collect();
        if values.is_empty() && missing.is_empty() {
            missing = kind.fields.iter().collect();
        }
        if !missing.is_empty() {
            let words = missing.iter().map(|field| format!("`{}`", field.word)).collect::<Vec<_>>().join(" or ");
            let message = format!("`{}` needs {words}", kind.keyword);
            self.report(Diagnostic::error("W321", item.keyword.span, message));
            return None;
        }
        let attribute = item.attribute.as_ref().map(|name| name.text.clone());
        Some(Plan { kind, attribute, values, span: item.keyword.span })
    }

    /// The attribute that `send` names, which equipment may be sent.
    fn attribute(&mut self, name: &Name, is_secret: bool) -> Option<()> {
        let Some(attribute) = self.schema.attribute(&name.text) else {
            let known = self.schema.attributes().map(|attribute| attribute.name.as_str());
            let suggestion = did_you_mean(&name.text, known);
            let message = format!("there is no attribute `{}`", name.text);
            self.report(
                Diagnostic::error("W324", name.span, message)
                    .suggest(suggestion)
                    .note("a vendor's are added with `regnant dictionary add`"),
            );
            return None;
        };
        if let Some(why) = &attribute.refused {
            let message = format!("`{}` cannot be sent: {why}", name.text);
            self.report(Diagnostic::error("W325", name.span, message));
            return None;
        }
        if attribute.secret != is_secret {
            let (message, note) = match attribute.secret {
                true => (
                    format!("`{}` carries a secret, which must not stand in a policy", name.text),
                    format!("keep it with `regnant secret set NAME`, and write `send {} = secret \"NAME\"`", name.text),
                ),
                false => (
                    format!("`{}` is no secret: whatever it carries is shown and kept", name.text),
                    "say `secret = true` in its dictionary, if it is one".into(),
                ),
            };
            self.report(Diagnostic::error("W333", name.span, message).note(note));
            return None;
        }
        Some(())
    }

    /// A secret that the records have.
    fn secret(&mut self, name: &Name) -> Option<StatementValue> {
        if let Some(known) = self.schema.secrets()
            && !known.iter().any(|known| known.eq_ignore_ascii_case(&name.text))
        {
            let suggestion = did_you_mean(&name.text, known.iter().map(String::as_str));
            self.report(
                Diagnostic::error("W334", name.span, format!("there is no secret \"{}\"", name.text))
                    .suggest(suggestion)
                    .note("keep one with `regnant secret set NAME`"),
            );
            return None;
        }
        Some(StatementValue::Secret(name.text.clone()))
    }

    fn content(&mut self, kind: &StatementKind, field: &FieldKind, part: &FieldItem) -> Option<Content> {
        let Some(operand) = &part.value else { return Some(Content::Is(StatementValue::Flag)) };
        let fact = match operand {
            Operand::Call { .. } | Operand::Keyed { .. } => true,
            Operand::Word(word) => self.schema.find(&word.text).is_some(),
            Operand::Secret(name) => return self.secret(name).map(Content::Is),
            Operand::Text(_) | Operand::Regex(_) | Operand::Window(_) => false,
        };
        if !fact {
            if let Some(default) = &part.default {
                let note = "a default is for a value that comes from a fact";
                self.report(Diagnostic::error("W326", default.span(), "this is never used").note(note));
                return None;
            }
            return self.written(kind, field, operand).map(Content::Is);
        }
        if matches!(field.takes, Takes::Acl | Takes::Flag) {
            self.report(Diagnostic::error("W327", operand.span(), "an access list is named, and comes from no fact"));
            return None;
        }
        let (expression, fact) = self.value_expression(operand)?;
        let default = match &part.default {
            Some(default) => Some(self.written(kind, field, default)?),
            None => None,
        };
        if default.is_none() && !self.schema.definition(fact).always {
            let message = "this fact can be absent, and the grant would have no value then";
            let note = format!("write a default: `{} FACT or VALUE`", kind.keyword);
            self.report(Diagnostic::error("W328", operand.span(), message).note(note));
            return None;
        }
        let written = self.source.slice(operand.span()).to_owned();
        Some(Content::From { expression, written, default })
    }

    /// A value that is written.
    fn written(&mut self, kind: &StatementKind, field: &FieldKind, value: &Operand) -> Option<StatementValue> {
        let is_text = matches!(value, Operand::Text(_));
        Some(match &field.takes {
            Takes::Vlan if is_text => StatementValue::Text(self.short_text(value, MOST_VLAN_NAME)?),
            Takes::Vlan => StatementValue::Number(self.number(value, &VLANS, "a VLAN")?),
            Takes::NumberOrText(..) if is_text => StatementValue::Text(self.short_text(value, MOST_VALUE - 1)?),
            Takes::NumberOrText(range, what) | Takes::Number(range, what) => {
                StatementValue::Number(self.number(value, range, what)?)
            }
            Takes::Text(most) => StatementValue::Text(self.short_text(value, *most)?),
            Takes::Acl => StatementValue::Acl(self.acl_name(kind.keyword, value)?),
            Takes::Duration(least) => {
                let seconds = self.seconds(value)?;
                if seconds < *least {
                    let message = format!("this is shorter than {}", show_duration(u64::from(*least)));
                    self.report(Diagnostic::error("W332", value.span(), message));
                    return None;
                }
                StatementValue::Duration(seconds)
            }
            Takes::Rate => StatementValue::Rate(self.rate(value)?),
            Takes::Address4 | Takes::Address6 => StatementValue::Address(self.address(field, value)?),
            Takes::Word(words) => StatementValue::Text(self.word(kind.keyword, words, value)?),
            Takes::Attribute => match value {
                Operand::Text(_) => StatementValue::Text(self.short_text(value, MOST_SENT)?),
                Operand::Word(word) => StatementValue::Text(word.text.clone()),
                other => {
                    self.report(Diagnostic::error("W210", other.span(), "expected a value"));
                    return None;
                }
            },
            Takes::Flag => StatementValue::Flag,
        })
    }

    fn rate(&mut self, value: &Operand) -> Option<u64> {
        let rate = match value {
            Operand::Word(word) => read_rate(&word.text),
            _ => None,
        };
        if rate.is_none() {
            let message = "expected a rate in bits a second";
            self.report(Diagnostic::error("W329", value.span(), message).note("write it as 500k, 10M or 1G"));
        }
        rate
    }

    fn address(&mut self, field: &FieldKind, value: &Operand) -> Option<IpAddr> {
        let Value::Address(address) = self.literal(&Type::Address, value)? else { return None };
        let is_ipv4 = field.takes == Takes::Address4;
        if address.is_ipv4() != is_ipv4 {
            let (this, other) = if is_ipv4 { ("IPv4", "address6") } else { ("IPv6", "address") };
            let message = format!("this is no {this} address");
            self.report(Diagnostic::error("W330", value.span(), message).note(format!("use `{other}` for it")));
            return None;
        }
        Some(address)
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

    fn short_text(&mut self, value: &Operand, most: usize) -> Option<String> {
        let Value::Text(text) = self.literal(&Type::Text { ignore_case: false }, value)? else { return None };
        if text.is_empty() || text.len() > most {
            let message = format!("this text has {} bytes and may have 1 to {most}", text.len());
            self.report(Diagnostic::error("W314", value.span(), message));
            return None;
        }
        Some(text.into_owned())
    }

    fn acl_name(&mut self, keyword: &str, value: &Operand) -> Option<String> {
        let Operand::Word(name) = value else {
            self.report(
                Diagnostic::error("W315", value.span(), format!("`{keyword}` takes the bare name of an access list"))
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
                if self.written_grants.contains(name.text.as_str()) {
                    return None;
                }
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
