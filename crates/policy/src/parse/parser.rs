use crate::diagnostic::Diagnostic;
use crate::outline::OutlineItem;
use crate::parse::ast::{Name, Policy};
use crate::parse::include::Files;
use crate::parse::lexer::{Token, TokenKind, lex};
use crate::source::{Source, SourceFile, Span};
use regnant_base::did_you_mean;

/// A policy of more than this is refused before it is read.
const MAX_BYTES: usize = 8_000_000;

pub(crate) type Step<T> = Result<T, Diagnostic>;

/// Parses a policy: the file that it begins with, and those that are included. What could be read comes
/// back beside what could not.
pub(crate) fn parse(source: &Source) -> (Policy, Vec<Diagnostic>) {
    if source.bytes() > MAX_BYTES {
        let message = format!("the policy has {} bytes and may have {MAX_BYTES}", source.bytes());
        return (Policy::default(), vec![Diagnostic::error("W100", Span::default(), message)]);
    }
    Files::new(source).read()
}

/// Parses one file.
pub(crate) fn parse_file(source: &Source, file: &SourceFile) -> (Policy, Vec<Diagnostic>) {
    match lex(source.text_of(file), file.span.start) {
        Ok(tokens) => Parser { tokens, at: 0, depth: 0, outline: Vec::new(), diagnostics: Vec::new() }.policy(),
        Err(diagnostic) => (Policy::default(), vec![diagnostic]),
    }
}

/// A cursor over the tokens, with the few moves that the grammar is made of.
pub(crate) struct Parser {
    tokens: Vec<Token>,
    at: usize,
    /// How many braces are open.
    depth: usize,
    pub(crate) outline: Vec<OutlineItem>,
    pub(crate) diagnostics: Vec<Diagnostic>,
}

impl Parser {
    pub(crate) fn peek(&self) -> &Token {
        &self.tokens[self.at.min(self.tokens.len() - 1)]
    }

    pub(crate) fn span(&self) -> Span {
        self.peek().span
    }

    /// The span of the token before this one.
    pub(crate) fn last_span(&self) -> Span {
        self.tokens[self.at.saturating_sub(1)].span
    }

    /// The word that stands at a place, where one does.
    pub(crate) fn word_at(&self, span: Span) -> &str {
        let found = self.tokens.binary_search_by_key(&span.start, |token| token.span.start);
        match found.map(|place| &self.tokens[place].kind) {
            Ok(TokenKind::Word(word)) => word,
            _ => "",
        }
    }

    pub(crate) fn at_end(&self) -> bool {
        self.peek().kind == TokenKind::End
    }

    pub(crate) fn next(&mut self) -> Token {
        let token = self.peek().clone();
        match token.kind {
            TokenKind::Sign("{") => self.depth += 1,
            TokenKind::Sign("}") => self.depth = self.depth.saturating_sub(1),
            _ => {}
        }
        self.at += 1;
        token
    }

    pub(crate) fn is_word(&self, word: &str) -> bool {
        matches!(&self.peek().kind, TokenKind::Word(found) if found == word)
    }

    pub(crate) fn is_sign(&self, sign: &str) -> bool {
        matches!(self.peek().kind, TokenKind::Sign(found) if found == sign)
    }

    pub(crate) fn follows_sign(&self, sign: &str) -> bool {
        matches!(self.tokens.get(self.at + 1), Some(Token { kind: TokenKind::Sign(found), .. }) if *found == sign)
    }

    pub(crate) fn take_word(&mut self, word: &str) -> bool {
        let found = self.is_word(word);
        if found {
            self.next();
        }
        found
    }

    pub(crate) fn take_sign(&mut self, sign: &str) -> bool {
        let found = self.is_sign(sign);
        if found {
            self.next();
        }
        found
    }

    pub(crate) fn expect_sign(&mut self, sign: &str) -> Step<Span> {
        match self.is_sign(sign) {
            true => Ok(self.next().span),
            false => Err(self.unexpected(&format!("`{sign}`"))),
        }
    }

    pub(crate) fn expect_word(&mut self, word: &str) -> Step<Span> {
        match self.is_word(word) {
            true => Ok(self.next().span),
            false => Err(self.unexpected(&format!("`{word}`"))),
        }
    }

    /// Any word, described to the reader as `what`.
    pub(crate) fn word(&mut self, what: &str) -> Step<Name> {
        match &self.peek().kind {
            TokenKind::Word(text) => {
                let text = text.clone();
                Ok(Name { text, span: self.next().span })
            }
            _ => Err(self.unexpected(what)),
        }
    }

    /// A word that can be a name: a letter, then letters, digits, `-` and `_`.
    pub(crate) fn name(&mut self, what: &str) -> Step<Name> {
        let word = self.word(what)?;
        let fits = word.text.starts_with(char::is_alphabetic)
            && word.text.chars().all(|c| c.is_alphanumeric() || c == '-' || c == '_');
        match fits {
            true => Ok(word),
            false => Err(Diagnostic::error("W115", word.span, format!("`{}` cannot be a name", word.text))
                .note("a name begins with a letter and goes on with letters, digits, - and _")),
        }
    }

    pub(crate) fn text(&mut self, what: &str) -> Step<Name> {
        match self.optional_text() {
            Some(text) => Ok(text),
            None => Err(self.unexpected(what)),
        }
    }

    pub(crate) fn optional_text(&mut self) -> Option<Name> {
        match &self.peek().kind {
            TokenKind::Text(text) => {
                let text = text.clone();
                Some(Name { text, span: self.next().span })
            }
            _ => None,
        }
    }

    /// One or more, with commas between.
    pub(crate) fn list<T>(&mut self, mut one: impl FnMut(&mut Self) -> Step<T>) -> Step<Vec<T>> {
        let mut list = vec![one(self)?];
        while self.take_sign(",") {
            list.push(one(self)?);
        }
        Ok(list)
    }

    /// `{` items until `}`. An item that fails is reported, and reading goes on
    /// at the next of `keywords` in the same block.
    pub(crate) fn block(&mut self, keywords: &[&str], mut item: impl FnMut(&mut Self) -> Step<()>) -> Step<()> {
        self.expect_sign("{")?;
        let inside = self.depth;
        while !self.is_sign("}") {
            if self.at_end() {
                return Err(self.unexpected("`}`"));
            }
            if let Err(diagnostic) = item(self) {
                self.diagnostics.push(diagnostic);
                self.recover(keywords, inside);
                if self.depth < inside {
                    return Ok(());
                }
            }
        }
        self.next();
        Ok(())
    }

    /// Skips to the next of `keywords` where `depth` braces are open, or to the
    /// brace that closes them.
    pub(crate) fn recover(&mut self, keywords: &[&str], depth: usize) {
        loop {
            let known = matches!(&self.peek().kind, TokenKind::Word(word) if keywords.contains(&word.as_str()));
            let closes = self.depth == depth && depth > 0 && self.is_sign("}");
            if self.at_end() || closes || (known && self.depth <= depth) {
                return;
            }
            self.next();
        }
    }

    pub(crate) fn unexpected(&self, expected: &str) -> Diagnostic {
        let found = self.peek().kind.describe();
        Diagnostic::error("W110", self.span(), format!("expected {expected} and found {found}"))
    }

    /// For a word that is none of those that may stand here.
    pub(crate) fn not_one_of(&self, what: &str, known: &[&str]) -> Diagnostic {
        let diagnostic = self.unexpected(what);
        let suggestion = match &self.peek().kind {
            TokenKind::Word(word) => did_you_mean(word, known.iter().copied()),
            _ => None,
        };
        diagnostic.suggest(suggestion).note(format!("here may stand: {}", known.join(", ")))
    }
}
