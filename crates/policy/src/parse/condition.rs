use crate::diagnostic::Diagnostic;
use crate::edit::Mend;
use crate::parse::ast::*;
use crate::parse::lexer::TokenKind;
use crate::parse::notes::Role;
use crate::parse::parser::{Parser, Step};
use crate::source::Span;
use crate::window::{hours, weekday};

/// Deeper nesting is refused, so that no policy can exhaust the stack.
const MAX_DEPTH: usize = 64;

const COMPARISONS: [(&str, Comparison); 6] = [
    ("=", Comparison::Equal),
    ("!=", Comparison::NotEqual),
    ("<", Comparison::Less),
    ("<=", Comparison::LessOrEqual),
    (">", Comparison::Greater),
    (">=", Comparison::GreaterOrEqual),
];

/// Parentheses around what stands before the other word.
fn around(span: Span) -> Mend {
    let at = |at| Span { start: at, end: at };
    Mend::Texts("put parentheses around the first part", vec![(at(span.start), "("), (at(span.end), ")")])
}

impl Parser {
    pub(crate) fn condition(&mut self) -> Step<Condition> {
        self.joined(0)
    }

    /// Terms joined by `and` or by `or`; mixing needs parentheses.
    fn joined(&mut self, depth: usize) -> Step<Condition> {
        if depth > MAX_DEPTH {
            return Err(Diagnostic::error("W120", self.span(), "this condition is nested too deeply")
                .note("give inner parts names with `define`"));
        }
        let start = self.span();
        let first = self.term(depth)?;
        let word = match (self.is_word("and"), self.is_word("or")) {
            (true, _) => "and",
            (_, true) => "or",
            _ => return Ok(first),
        };
        let mut terms = vec![first];
        while self.take_word(word) {
            terms.push(self.term(depth)?);
        }
        if self.is_word("and") || self.is_word("or") {
            return Err(Diagnostic::error("W121", self.span(), "`and` and `or` are mixed without parentheses")
                .note("put parentheses around the part that belongs together")
                .mend(around(start.to(self.last_span()))));
        }
        Ok(if word == "and" { Condition::And(terms) } else { Condition::Or(terms) })
    }

    fn term(&mut self, depth: usize) -> Step<Condition> {
        if self.take_word("not") {
            if depth > MAX_DEPTH {
                return Err(Diagnostic::error("W120", self.span(), "this condition is nested too deeply"));
            }
            return Ok(Condition::Not(Box::new(self.term(depth + 1)?)));
        }
        if self.take_sign("(") {
            let inner = self.joined(depth + 1)?;
            self.expect_sign(")")?;
            return Ok(inner);
        }
        let start = self.span();
        if self.take_word("exists") {
            let fact = self.word_of(Role::Fact, "a fact")?;
            return Ok(Condition::Exists { span: start.to(fact.span), fact });
        }
        for (word, all) in [("any", false), ("all", true)] {
            if self.take_word(word) {
                self.expect_word("of")?;
                let left = self.operand_of(Role::Fact)?;
                self.notes.subject = left.span();
                self.expect_word("in")?;
                let set = match self.is_sign("{") {
                    true => SetItem::Members(self.set()?),
                    false => SetItem::List(self.word_of(Role::List, "a set in braces, or the name of a list")?),
                };
                return Ok(Condition::Quantified { all, left, set, span: start.to(self.last_span()) });
            }
        }
        let left = self.operand_of(Role::Fact)?;
        self.notes.subject = left.span();
        let test = self.test()?;
        Ok(Condition::Test { left, test, span: start.to(self.last_span()) })
    }

    fn test(&mut self) -> Step<Test> {
        for (sign, comparison) in COMPARISONS {
            if self.take_sign(sign) {
                return Ok(Test::Compare(comparison, self.operand_of(Role::Value)?));
            }
        }
        if self.take_word("in") {
            return self.membership();
        }
        if self.take_word("contains") {
            return Ok(Test::Contains(self.operand_of(Role::Value)?));
        }
        if self.take_word("starts") {
            self.expect_word("with")?;
            return Ok(Test::StartsWith(self.operand()?));
        }
        if self.take_word("ends") {
            self.expect_word("with")?;
            return Ok(Test::EndsWith(self.operand()?));
        }
        if self.take_word("matches") {
            return match self.operand()? {
                Operand::Regex(regex) => Ok(Test::Matches(regex)),
                other => Err(Diagnostic::error("W122", other.span(), "`matches` needs a regular expression")
                    .note("write it between slashes: matches /^crane-[0-9]+$/")),
            };
        }
        Ok(Test::Bare)
    }

    fn membership(&mut self) -> Step<Test> {
        if self.is_sign("{") {
            return Ok(Test::InSet(self.set()?));
        }
        if self.take_word("group") {
            if !self.word_at(self.notes.subject).contains('.') {
                self.notes.about_somebody();
            }
            let group = self.text_of(Role::Group, "the name of a group in quotes")?;
            let store = if self.take_word("of") { Some(self.word_of(Role::Store, "a store")?) } else { None };
            return Ok(Test::InGroup(group, store));
        }
        let first = self.operand_of(Role::List)?;
        match self.take_sign("..") {
            true => Ok(Test::InRange(first, self.operand()?)),
            false => Ok(Test::InBlock(first)),
        }
    }

    pub(crate) fn set(&mut self) -> Step<Vec<Operand>> {
        self.expect_sign("{")?;
        let members = if self.is_sign("}") { Vec::new() } else { self.list(Self::member)? };
        self.expect_sign("}")?;
        Ok(members)
    }

    /// A literal, or hours of some days.
    fn member(&mut self) -> Step<Operand> {
        let start = self.span();
        let is_day = |parser: &Self| matches!(&parser.peek().kind, TokenKind::Word(word) if weekday(word).is_some());
        let days = match is_day(self) {
            true => {
                let first = self.word("a day")?;
                let last = if self.take_sign("..") { Some(self.word("the last day")?) } else { None };
                Some((first, last))
            }
            false => None,
        };
        let is_hours = matches!(&self.peek().kind, TokenKind::Word(word) if hours(word).is_some());
        let hours = if is_hours { Some(self.word("hours")?) } else { None };
        match days.is_some() || hours.is_some() {
            true => Ok(Operand::Window(Box::new(WindowItem { days, hours, span: start.to(self.last_span()) }))),
            false => self.operand_of(Role::Value),
        }
    }

    /// An operand that is made of facts, or of none.
    pub(crate) fn operand(&mut self) -> Step<Operand> {
        self.operand_of(Role::Fact)
    }

    /// An operand whose words name something.
    pub(crate) fn operand_of(&mut self, role: Role) -> Step<Operand> {
        self.operand_at(role, 0)
    }

    fn operand_at(&mut self, role: Role, depth: usize) -> Step<Operand> {
        if depth > MAX_DEPTH {
            return Err(Diagnostic::error("W120", self.span(), "these functions are nested too deeply"));
        }
        self.want_name(role);
        let token = self.peek().clone();
        match token.kind {
            TokenKind::Word(text) if self.follows_sign("(") => {
                self.next();
                self.next();
                let arguments = self.list(|p| p.operand_at(Role::Fact, depth + 1))?;
                let end = self.expect_sign(")")?;
                let function = Name { text, span: token.span };
                Ok(Operand::Call { function, arguments, span: token.span.to(end) })
            }
            TokenKind::Word(text) => {
                self.next();
                self.notes.name(token.span, role, false);
                let fact = Name { text, span: token.span };
                match self.peek().kind.clone() {
                    TokenKind::Text(text) if fact.text.contains('.') => {
                        let key = Name { text, span: self.next().span };
                        Ok(Operand::Keyed { fact, key })
                    }
                    _ => Ok(Operand::Word(fact)),
                }
            }
            TokenKind::Text(text) => {
                self.next();
                Ok(Operand::Text(Name { text, span: token.span }))
            }
            TokenKind::Regex(text) => {
                self.next();
                Ok(Operand::Regex(Name { text, span: token.span }))
            }
            _ => Err(self.unexpected("a fact or a value")),
        }
    }
}
