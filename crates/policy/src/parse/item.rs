use regnant_base::go_on;

use crate::diagnostic::Diagnostic;
use crate::grant::{STATEMENTS, StatementKind, Takes};
use crate::outline::{OutlineItem, OutlineKind};
use crate::parse::ast::*;
use crate::parse::notes::Role;
use crate::parse::parser::{Parser, Step};

const ITEMS: [&str; 8] = ["zone", "include", "define", "list", "acl", "grant", "gate", "case"];

impl Parser {
    pub(crate) fn policy(&mut self) -> Policy {
        let mut policy = Policy::default();
        while !self.at_end() {
            go_on();
            if let Err(diagnostic) = self.item(&mut policy) {
                self.failed(diagnostic);
                if !self.at_end() {
                    self.next();
                }
                self.recover(&ITEMS, 0);
            }
        }
        self.want_words(&ITEMS);
        policy.outline = std::mem::take(&mut self.outline);
        policy
    }

    fn item(&mut self, policy: &mut Policy) -> Step<()> {
        let (start, inner) = (self.span(), self.outline.len());
        self.read_item(policy)?;
        let span = start.to(self.last_span());
        let (last, mut gate) = (|names: Option<&Name>| names.map_or(String::new(), |name| name.text.clone()), None);
        let item = match self.word_at(start) {
            "zone" => (OutlineKind::Zone, String::new()),
            "include" => (OutlineKind::Include, last(policy.includes.last())),
            "define" => (OutlineKind::Define, last(policy.defines.last().map(|item| &item.name))),
            "list" => (OutlineKind::List, last(policy.lists.last().map(|item| &item.name))),
            "acl" => (OutlineKind::Acl, last(policy.acls.last().map(|item| &item.name))),
            "grant" => (OutlineKind::Grant, last(policy.grants.last().map(|item| &item.name))),
            "case" => (OutlineKind::Case, last(policy.cases.last().map(|item| &item.title))),
            _ => {
                let name = last(policy.gates.last().map(|item| &item.name));
                gate = Some(name.clone());
                (OutlineKind::Gate, name)
            }
        };
        // What stands in a gate was noted before it ended.
        for one in &mut self.outline[inner..] {
            one.gate.clone_from(&gate);
        }
        self.outline.insert(inner, OutlineItem { kind: item.0, name: item.1, gate: None, span, parts: Vec::new() });
        Ok(())
    }

    fn read_item(&mut self, policy: &mut Policy) -> Step<()> {
        if self.take_word("define") {
            policy.defines.push(self.define()?);
        } else if self.is_word("zone") {
            let start = self.next().span;
            if policy
                .zone
                .replace(self.text_of(Role::Zone, "a time zone in quotes, such as \"Europe/Lisbon\"")?)
                .is_some()
            {
                return Err(Diagnostic::error("W112", start, "a policy has one `zone`"));
            }
        } else if self.take_word("include") {
            policy.includes.push(self.text_of(Role::File, "the path of a file in quotes")?);
        } else if self.take_word("list") {
            policy.lists.push(self.list_item()?);
        } else if self.take_word("acl") {
            policy.acls.push(self.acl()?);
        } else if self.take_word("grant") {
            policy.grants.push(self.grant()?);
        } else if self.take_word("gate") {
            policy.gates.push(self.gate()?);
        } else if self.take_word("case") {
            policy.cases.push(self.case()?);
        } else {
            return Err(self.not_one_of("an item of the policy", &ITEMS));
        }
        Ok(())
    }

    fn define(&mut self) -> Step<Define> {
        let name = self.name(Role::Define, "a name for the condition")?;
        self.expect_sign("=")?;
        Ok(Define { name, condition: self.condition()? })
    }

    fn list_item(&mut self) -> Step<ListItem> {
        let name = self.name(Role::List, "a name for the list")?;
        self.expect_sign("=")?;
        Ok(ListItem { name, members: self.set()? })
    }

    fn acl(&mut self) -> Step<AclItem> {
        let name = self.name(Role::Acl, "a name for the access list")?;
        let mut entries = Vec::new();
        self.block(&["permit", "deny"], |p| {
            if !p.is_word("permit") && !p.is_word("deny") {
                return Err(p.not_one_of("an entry", &["permit", "deny"]));
            }
            let action = p.word("permit or deny")?;
            let protocol = p.word("a protocol")?;
            let from = if p.take_word("from") { Some(p.side()?) } else { None };
            p.expect_word("to")?;
            entries.push(EntryItem { action, protocol, from, to: p.side()? });
            Ok(())
        })?;
        Ok(AclItem { name, entries })
    }

    fn side(&mut self) -> Step<Side> {
        let place = self.word("any, this, an address or a block")?;
        let ports = if self.take_word("port") { self.list(Self::port)? } else { Vec::new() };
        Ok(Side { place, ports })
    }

    fn port(&mut self) -> Step<(Name, Option<Name>)> {
        let first = self.word("a port")?;
        let last = if self.take_sign("..") { Some(self.word("the last port")?) } else { None };
        Ok((first, last))
    }

    fn grant(&mut self) -> Step<GrantItem> {
        let name = self.name(Role::Grant, "a name for the grant")?;
        let extends =
            if self.take_word("extends") { Some(self.word_of(Role::Grant, "the grant to extend")?) } else { None };
        let mut statements = Vec::new();
        self.block(&STATEMENTS.each_ref().map(|kind| kind.keyword), |p| {
            statements.push(p.statement()?);
            Ok(())
        })?;
        Ok(GrantItem { name, extends, statements })
    }

    fn statement(&mut self) -> Step<StatementItem> {
        let keyword = self.one_word(&STATEMENTS.each_ref().map(|kind| kind.keyword), "a statement of a grant")?;
        let kind = StatementKind::of(&keyword.text);
        let attribute = match kind.is_some_and(StatementKind::names_attribute) {
            true => {
                let name = self.word_of(Role::Attribute, "the name of an attribute")?;
                self.expect_sign("=")?;
                Some(name)
            }
            false => None,
        };
        let known = kind.map_or(&[][..], |kind| kind.fields);
        let mut fields = Vec::new();
        if attribute.is_some() && self.take_word("secret") {
            let value = Some(Operand::Secret(self.text_of(Role::Secret, "the name of a secret in quotes")?));
            fields.push(FieldItem { word: None, value, default: None });
            return Ok(StatementItem { keyword, attribute, fields });
        }
        if known.first().is_none_or(|first| first.word.is_empty()) {
            fields.push(self.field(None, known.first().map(|field| &field.takes))?);
        }
        let after = |parser: &Self| known.iter().find(|field| !field.word.is_empty() && parser.is_word(field.word));
        while let Some(field) = after(self) {
            let word = self.word(field.word)?;
            fields.push(self.field(Some(word), Some(&field.takes))?);
        }
        Ok(StatementItem { keyword, attribute, fields })
    }

    fn field(&mut self, word: Option<Name>, takes: Option<&Takes>) -> Step<FieldItem> {
        if takes == Some(&Takes::Flag) {
            return Ok(FieldItem { word, value: None, default: None });
        }
        if let Some(Takes::Word(words)) = takes {
            self.want_words(words);
        }
        let role = match takes {
            Some(Takes::Acl) => Role::Acl,
            Some(Takes::Word(_)) => Role::Literal,
            _ => Role::Fact,
        };
        let value = Some(self.operand_of(role)?);
        let default = if self.take_word("or") { Some(self.operand()?) } else { None };
        Ok(FieldItem { word, value, default })
    }

    fn case(&mut self) -> Step<CaseItem> {
        let title = self.text("a title in quotes")?;
        let (mut given, mut expected, mut now) = (Vec::new(), None, false);
        self.block(&["given", "expect"], |p| {
            if p.take_word("given") {
                given.extend(p.list(Self::given)?);
            } else if p.is_word("expect") {
                let span = p.next().span;
                now = p.take_word("now");
                expected = Some(p.expectation(span)?);
            } else {
                return Err(p.not_one_of("a part of a case", &["given", "expect"]));
            }
            Ok(())
        })?;
        let Some((expect, by, with, expect_span)) = expected else {
            return Err(Diagnostic::error("W111", title.span, "this case expects nothing")
                .note("end it with `expect grant NAME`, `expect refuse` or `expect silence`"));
        };
        Ok(CaseItem { title, given, now, expect, by, with, expect_span })
    }

    fn given(&mut self) -> Step<(Name, GivenValue)> {
        let fact = self.word_of(Role::Fact, "a fact")?;
        self.notes.subject = fact.span;
        if self.take_word("unanswered") {
            return Ok((fact, GivenValue::Unanswered));
        }
        self.expect_sign("=")?;
        let value = if self.is_sign("{") {
            GivenValue::Set(self.set()?)
        } else {
            GivenValue::One(self.operand_of(Role::Value)?)
        };
        Ok((fact, value))
    }

    #[allow(clippy::type_complexity)]
    fn expectation(
        &mut self,
        start: crate::Span,
    ) -> Step<(ConsequenceItem, Option<ByItem>, Vec<StatementItem>, crate::Span)> {
        let expect = self.consequence()?;
        let by = match self.take_word("by") {
            true if self.take_word("otherwise") => Some(ByItem::Otherwise),
            true => Some(ByItem::Rule(self.text_of(Role::Rule, "the title of a rule, or otherwise")?)),
            false => None,
        };
        let with = if self.take_word("with") { self.list(Self::statement)? } else { Vec::new() };
        Ok((expect, by, with, start.to(self.last_span())))
    }
}
