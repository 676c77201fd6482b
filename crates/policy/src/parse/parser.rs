use crate::diagnostic::Diagnostic;
use crate::outline::OutlineItem;
use crate::parse::ast::{Name, Policy};
use crate::parse::include::Files;
use crate::parse::lexer::{Token, TokenKind, lex};
use crate::parse::notes::{NamedAt, Notes, Role, Wanted};
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
        Ok(tokens) => {
            let mut parser = Parser::new(tokens, Notes::default());
            let policy = parser.policy();
            (policy, parser.diagnostics)
        }
        Err(diagnostic) => (Policy::default(), vec![diagnostic]),
    }
}

/// The names of a file. A line of which no words can be made, as while it is being written, is passed over.
pub(crate) fn read_names(text: &str, base: usize) -> Vec<NamedAt> {
    let mut text = std::borrow::Cow::Borrowed(text);
    for _ in 0..MOST_LINES_PASSED {
        match lex(&text, base) {
            Ok(tokens) => {
                let mut parser = Parser::new(tokens, Notes::default());
                parser.policy();
                return parser.notes.names;
            }
            Err(diagnostic) => {
                let at = (diagnostic.labels[0].span.start - base).min(text.len());
                let from = text[..at].rfind('\n').map_or(0, |before| before + 1);
                let to = text[at..].find('\n').map_or(text.len(), |after| at + after);
                // The others stay where they stand.
                let blank = " ".repeat(to - from);
                text.to_mut().replace_range(from..to, &blank);
            }
        }
    }
    Vec::new()
}

/// Lines that are passed over.
const MOST_LINES_PASSED: usize = 20;

/// What may stand at the end of a text, and what a comparison there is about; none where no words can be made
/// of the text.
pub(crate) fn read_wanted(text: &str, base: usize) -> Option<(Span, Vec<Wanted>)> {
    let mut parser = Parser::new(lex(text, base).ok()?, Notes::asking());
    parser.policy();
    let wanted = parser.notes.stop();
    Some((parser.notes.subject, if parser.wanted.is_empty() { wanted } else { parser.wanted }))
}

/// A cursor over the tokens, with the few moves that the grammar is made of.
pub(crate) struct Parser {
    tokens: Vec<Token>,
    at: usize,
    /// How many braces are open.
    depth: usize,
    pub(crate) outline: Vec<OutlineItem>,
    pub(crate) diagnostics: Vec<Diagnostic>,
    pub(crate) notes: Notes,
    /// What may stand at the end, where something else was read into it.
    wanted: Vec<Wanted>,
}

impl Parser {
    fn new(tokens: Vec<Token>, notes: Notes) -> Self {
        let (outline, diagnostics, wanted) = (Vec::new(), Vec::new(), Vec::new());
        Self { tokens, at: 0, depth: 0, outline, diagnostics, notes, wanted }
    }

    /// Something failed: where that was at the end of the text, what is looked for afterwards does not count.
    pub(crate) fn failed(&mut self, diagnostic: Diagnostic) {
        if self.at_end() {
            let wanted = self.notes.stop();
            self.wanted.extend(wanted);
        }
        self.diagnostics.push(diagnostic);
    }

    pub(crate) fn want_words(&self, words: &[&str]) {
        if self.at_end() {
            words.iter().for_each(|word| self.notes.want(|| Wanted::Word((*word).into())));
        }
    }

    pub(crate) fn want_name(&self, role: Role) {
        if self.at_end() {
            self.notes.want(|| Wanted::Name(role));
        }
    }

    /// A word that names something.
    pub(crate) fn word_of(&mut self, role: Role, what: &str) -> Step<Name> {
        self.want_name(role);
        let name = self.word(what)?;
        self.notes.name(name.span, role, false);
        Ok(name)
    }

    /// A text that names something.
    pub(crate) fn text_of(&mut self, role: Role, what: &str) -> Step<Name> {
        self.want_name(role);
        let name = self.text(what)?;
        self.notes.name(name.span, role, false);
        Ok(name)
    }

    /// One of a few words, or what the check says of others.
    pub(crate) fn one_word(&mut self, known: &[&str], what: &str) -> Step<Name> {
        self.want_words(known);
        self.word(what)
    }

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
        self.want_words(&[word]);
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
    pub(crate) fn name(&mut self, role: Role, what: &str) -> Step<Name> {
        let word = self.word(what)?;
        self.notes.name(word.span, role, true);
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
                self.want_words(keywords);
                self.want_words(&["}"]);
                return Err(self.unexpected("`}`"));
            }
            if let Err(diagnostic) = item(self) {
                self.failed(diagnostic);
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
