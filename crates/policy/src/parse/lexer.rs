use crate::diagnostic::Diagnostic;
use crate::source::Span;

/// One token and where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Token {
    pub(crate) kind: TokenKind,
    pub(crate) span: Span,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum TokenKind {
    /// A keyword, name, number, address, duration: anything bare.
    Word(String),
    /// A text in quotes, unescaped.
    Text(String),
    /// A regular expression between slashes.
    Regex(String),
    /// Punctuation: one of `{ } ( ) , = != < <= > >= ..`
    Sign(&'static str),
    /// The end of the file.
    End,
}

impl TokenKind {
    pub(crate) fn describe(&self) -> String {
        match self {
            Self::Word(word) => format!("`{word}`"),
            Self::Text(_) => "a text".into(),
            Self::Regex(_) => "a regular expression".into(),
            Self::Sign(sign) => format!("`{sign}`"),
            Self::End => "the end of the file".into(),
        }
    }
}

const SIGNS: [&str; 12] = ["!=", "<=", ">=", "..", "{", "}", "(", ")", ",", "=", "<", ">"];

/// Splits a file into tokens; the last is always [`TokenKind::End`]. The file begins at `base` of its
/// source.
pub(crate) fn lex(text: &str, base: usize) -> Result<Vec<Token>, Diagnostic> {
    let mut tokens = Vec::new();
    let mut at = 0;
    while let Some(next) = text[at..].chars().next() {
        let rest = &text[at..];
        if next.is_whitespace() {
            at += next.len_utf8();
        } else if next == '#' {
            // A line ends with either, or with both.
            at += rest.find(['\n', '\r']).unwrap_or(rest.len());
        } else {
            let (kind, length) = token(rest, base + at)?;
            tokens.push(Token { kind, span: Span { start: base + at, end: base + at + length } });
            at += length;
        }
    }
    tokens.push(Token { kind: TokenKind::End, span: Span { start: base + text.len(), end: base + text.len() } });
    Ok(tokens)
}

fn token(rest: &str, at: usize) -> Result<(TokenKind, usize), Diagnostic> {
    match rest.chars().next() {
        Some('"') => quoted(rest, at).map(|(text, length)| (TokenKind::Text(text), length)),
        Some('/') => regex(rest, at),
        Some(c) if word_char(c) && !rest.starts_with("..") => {
            let length = word_length(rest);
            Ok((TokenKind::Word(rest[..length].to_owned()), length))
        }
        _ => match SIGNS.iter().find(|sign| rest.starts_with(**sign)) {
            Some(sign) => Ok((TokenKind::Sign(sign), sign.len())),
            None => {
                let stray = rest.chars().next().unwrap_or_default();
                let span = Span { start: at, end: at + stray.len_utf8() };
                Err(Diagnostic::error("W101", span, format!("`{stray}` has no meaning here"))
                    .note("texts stand in double quotes; a comment begins with #"))
            }
        },
    }
}

fn word_char(c: char) -> bool {
    c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | ':' | '+' | '@' | '$')
}

/// A word ends before `..`, so that `1..12` is three tokens; a slash belongs to
/// it only before a digit, as in `10.44.0.0/16`.
fn word_length(rest: &str) -> usize {
    let mut length = 0;
    for c in rest.chars() {
        let follows = &rest[length + c.len_utf8()..];
        let slash = c == '/' && length > 0 && follows.starts_with(|c: char| c.is_ascii_digit());
        if rest[length..].starts_with("..") || !(word_char(c) || slash) {
            break;
        }
        length += c.len_utf8();
    }
    length
}

fn quoted(rest: &str, at: usize) -> Result<(String, usize), Diagnostic> {
    let mut text = String::new();
    let mut chars = rest.char_indices().skip(1);
    while let Some((index, c)) = chars.next() {
        match c {
            '"' => return Ok((text, index + 1)),
            '\n' => break,
            '\\' => match chars.next() {
                Some((_, 'n')) => text.push('\n'),
                Some((_, c @ ('"' | '\\'))) => text.push(c),
                _ => {
                    let span = Span { start: at + index, end: at + index + 1 };
                    return Err(Diagnostic::error(
                        "W102",
                        span,
                        "a backslash in a text needs `\"`, `\\` or `n` after it",
                    ));
                }
            },
            c => text.push(c),
        }
    }
    let line = rest.find('\n').unwrap_or(rest.len());
    Err(Diagnostic::error("W103", Span { start: at, end: at + line }, "this text is not closed")
        .note("a text ends with a double quote on the line where it begins"))
}

fn regex(rest: &str, at: usize) -> Result<(TokenKind, usize), Diagnostic> {
    let mut escaped = false;
    for (index, c) in rest.char_indices().skip(1) {
        match c {
            '\n' => break,
            '/' if !escaped => {
                return Ok((TokenKind::Regex(rest[1..index].replace("\\/", "/")), index + 1));
            }
            c => escaped = c == '\\' && !escaped,
        }
    }
    Err(Diagnostic::error("W104", Span { start: at, end: at + 1 }, "this regular expression is not closed")
        .note("a regular expression ends with a slash on the line where it begins"))
}
