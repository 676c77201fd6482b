//! Changes of a text that would mend what a finding tells.

use crate::source::{Source, Span};

/// What would mend a finding.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edit {
    /// What it does, for a button: `write staff`, `remove the rule`.
    pub what: String,
    /// What is replaced, in the order of the text; none overlaps another.
    pub changes: Vec<Replacement>,
}

/// A text in the place of another.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Replacement {
    /// What is replaced; empty where something is put in.
    pub span: Span,
    /// What stands there then; empty where something is taken out.
    pub text: String,
}

/// A change as whoever found something knows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Mend {
    /// This word in the place of what the finding is about; in quotes where that is a text.
    Word(String),
    /// These texts in the place of those of these spans.
    Texts(&'static str, Vec<(Span, &'static str)>),
    /// Without this, and without the lines that it leaves empty.
    Without(&'static str, Span),
}

impl Mend {
    pub(crate) fn edit(&self, about: Span, source: &Source) -> Edit {
        match self {
            Self::Word(word) => {
                let text = if source.slice(about).starts_with('"') { crate::quoted(word) } else { word.clone() };
                Edit { what: format!("write {text}"), changes: vec![Replacement { span: about, text }] }
            }
            Self::Texts(what, texts) => {
                let changes = texts.iter().map(|(span, text)| Replacement { span: *span, text: (*text).into() });
                Edit { what: (*what).into(), changes: changes.collect() }
            }
            Self::Without(what, span) => {
                let (span, text) = (source.with_what_it_leaves(*span), String::new());
                Edit { what: (*what).into(), changes: vec![Replacement { span, text }] }
            }
        }
    }
}

impl Source {
    /// The span with the white space that nobody needs without it: whole lines where it has them alone, else
    /// what stands before it.
    pub(crate) fn with_what_it_leaves(&self, span: Span) -> Span {
        let Some(file) = self.file_at(span.start) else { return span };
        let (before, after) = (
            self.slice(Span { start: file.span.start, end: span.start }),
            self.slice(Span { start: span.end, end: file.span.end }),
        );
        let white = |c: char| c == ' ' || c == '\t';
        let start = span.start - (before.len() - before.trim_end_matches(white).len());
        let begins_line = start == file.span.start || self.slice(Span { start: start - 1, end: start }) == "\n";
        let spaces = after.len() - after.trim_start_matches(white).len();
        match (begins_line, after[spaces..].strip_prefix('\n')) {
            (true, Some(_)) => {
                // One of two empty lines around it goes too.
                let rest = &after[spaces + 1..];
                let above = before.trim_end_matches(white).ends_with("\n\n") || start == file.span.start;
                let end = span.end + spaces + 1 + usize::from(above && rest.starts_with('\n'));
                Span { start, end }
            }
            (true, None) if after[spaces..].is_empty() => Span { start, end: span.end + spaces },
            (false, _) => Span { start, end: span.end },
            (true, None) => Span { start: span.start, end: span.end + spaces },
        }
    }
}
