//! One way to lay a policy out.

use crate::diagnostic::Diagnostic;
use crate::parse::lexer::{Token, TokenKind, lex};

/// What each open brace, and a line that goes on, is set in by.
const STEP: &str = "  ";

/// Lays a file out: a step for each open brace and for lines that go on, one space between words, one
/// empty line at most. Comments and the ends of lines stay where their author put them; the words stay the
/// same, so that it means the same.
pub fn format(text: &str) -> Result<String, Box<Diagnostic>> {
    let text = text.trim_start_matches('\u{feff}').replace("\r\n", "\n").replace('\r', "\n");
    let tokens = lex(&text, 0).map_err(Box::new)?;
    let mut layout = Layout { text: &text, tokens: &tokens, at: 0, depth: 0, parentheses: 0, before: None };
    let (mut out, mut start, mut empty) = (String::new(), 0, true);
    for line in text.split('\n') {
        let end = start + line.len();
        let laid = layout.line(start, end);
        match laid.is_empty() {
            true => empty = true,
            false => {
                if empty && !out.is_empty() && !layout.closes(start, end) {
                    out.push('\n');
                }
                empty = false;
                out.push_str(&laid);
                out.push('\n');
            }
        }
        start = end + 1;
    }
    Ok(out)
}

struct Layout<'t> {
    text: &'t str,
    tokens: &'t [Token],
    /// The next token.
    at: usize,
    depth: usize,
    parentheses: usize,
    /// The token before.
    before: Option<&'t Token>,
}

impl<'t> Layout<'t> {
    /// A line of the text, laid out.
    fn line(&mut self, start: usize, end: usize) -> String {
        let goes_on = self.goes_on();
        let (mut line, mut last, mut depth, mut first) = (String::new(), start, self.depth, true);
        while let Some(token) =
            self.tokens.get(self.at).filter(|token| token.span.start < end && token.kind != TokenKind::End)
        {
            if first {
                let closes = matches!(token.kind, TokenKind::Sign("}"));
                depth = self.depth - usize::from(closes && self.depth > 0);
                depth += usize::from((goes_on || self.begins_joined(token)) && !closes);
                first = false;
            } else if self.before.is_some_and(|before| spaced(before, token)) {
                line.push(' ');
            }
            line.push_str(&self.text[token.span.range()]);
            last = token.span.end;
            self.take(token);
        }
        // What follows the last word of a line is white space or a comment.
        if let Some(comment) = self.text[last..end].trim().strip_prefix('#') {
            if !line.is_empty() {
                line.push_str("  ");
            } else if goes_on {
                depth += 1;
            }
            line.push('#');
            line.push_str(comment);
        }
        if line.is_empty() { line } else { STEP.repeat(depth) + &line }
    }

    fn take(&mut self, token: &'t Token) {
        match token.kind {
            TokenKind::Sign("{") => self.depth += 1,
            TokenKind::Sign("}") => self.depth = self.depth.saturating_sub(1),
            TokenKind::Sign("(") => self.parentheses += 1,
            TokenKind::Sign(")") => self.parentheses = self.parentheses.saturating_sub(1),
            _ => {}
        }
        self.before = Some(token);
        self.at += 1;
    }

    /// Whether what was begun goes on in the next line.
    fn goes_on(&self) -> bool {
        let joins = self.before.is_some_and(|before| match &before.kind {
            TokenKind::Sign("{" | "}" | ")") | TokenKind::End => false,
            TokenKind::Sign(_) => true,
            TokenKind::Word(word) => JOINS.contains(&word.as_str()),
            TokenKind::Text(_) | TokenKind::Regex(_) => false,
        });
        joins || self.parentheses > 0
    }

    /// Whether a line that begins so goes on with the one before.
    fn begins_joined(&self, token: &Token) -> bool {
        let word = matches!(&token.kind, TokenKind::Word(word) if ["and", "or"].contains(&word.as_str()));
        word && self.before.is_some()
    }

    /// Whether a line begins with what closes a block.
    fn closes(&self, start: usize, end: usize) -> bool {
        self.text[start..end].trim_start().starts_with('}')
    }
}

/// Whether a space stands between two tokens.
pub(crate) fn spaced(before: &Token, token: &Token) -> bool {
    let is_call = matches!(before.kind, TokenKind::Word(_)) && before.span.end == token.span.start;
    match (&before.kind, &token.kind) {
        (_, TokenKind::Sign("," | ")" | "..")) | (TokenKind::Sign("(" | ".."), _) => false,
        // The parenthesis of a function or of a method stands where it stood.
        (_, TokenKind::Sign("(")) => !is_call,
        _ => true,
    }
}

/// Words after which a statement is not at its end.
const JOINS: [&str; 12] = ["and", "or", "not", "when", "in", "as", "by", "with", "from", "to", "contains", "matches"];
