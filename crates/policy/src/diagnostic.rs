use std::fmt::Write as _;

use crate::edit::{Edit, Mend};
use crate::source::{Source, Span};

/// How much a finding matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// The policy works and something about it is odd.
    Warning,
    /// The policy cannot be used.
    Error,
}

/// A place in the source and what is to be said about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Label {
    /// The place.
    pub span: Span,
    /// A few words; may be empty.
    pub text: String,
}

/// One finding: what is wrong, where, and what to write instead.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Diagnostic {
    /// A stable code, such as `W103`.
    pub code: &'static str,
    /// How much it matters.
    pub severity: Severity,
    /// What is wrong, in a sentence.
    pub message: String,
    /// Where; the first label is the main one.
    pub labels: Vec<Label>,
    /// What to do about it.
    pub notes: Vec<String>,
    /// What would mend it, where that is known.
    pub(crate) mend: Option<Box<Mend>>,
}

impl Diagnostic {
    /// An error at this place.
    pub fn error(code: &'static str, span: Span, message: impl Into<String>) -> Self {
        let labels = vec![Label { span, text: String::new() }];
        Self { code, severity: Severity::Error, message: message.into(), labels, notes: Vec::new(), mend: None }
    }

    pub(crate) fn warning(code: &'static str, span: Span, message: impl Into<String>) -> Self {
        Self { severity: Severity::Warning, ..Self::error(code, span, message) }
    }

    pub(crate) fn label(mut self, text: impl Into<String>) -> Self {
        self.labels[0].text = text.into();
        self
    }

    pub(crate) fn also(mut self, span: Span, text: impl Into<String>) -> Self {
        self.labels.push(Label { span, text: text.into() });
        self
    }

    /// With one more word on what to do.
    #[must_use]
    pub fn note(mut self, text: impl Into<String>) -> Self {
        self.notes.push(text.into());
        self
    }

    pub(crate) fn suggest(self, suggestion: Option<&str>) -> Self {
        match suggestion {
            Some(word) => self.mend(Mend::Word(word.to_owned())).note(format!("did you mean `{word}`?")),
            None => self,
        }
    }

    pub(crate) fn mend(self, mend: Mend) -> Self {
        Self { mend: Some(Box::new(mend)), ..self }
    }

    /// A change that would mend it, where one is known.
    pub fn edit(&self, source: &Source) -> Option<Edit> {
        self.mend.as_ref().map(|mend| mend.edit(self.labels[0].span, source))
    }

    /// The finding with its lines of source and carets under them.
    ///
    /// ```text
    /// error W201: there is no fact `device.bared`
    ///   main.writ:7:10
    ///     7 |     when device.bared
    ///       |          ^^^^^^^^^^^^^^
    ///   did you mean `device.barred`?
    /// ```
    pub fn render(&self, source: &Source) -> String {
        let severity = match self.severity {
            Severity::Error => "error",
            Severity::Warning => "warning",
        };
        let mut out = format!("{severity} {}: {}\n", self.code, self.message);
        for label in &self.labels {
            let start = source.position(label.span.start);
            let width = source.slice(label.span).lines().next().map_or(1, |text| text.chars().count().max(1));
            let (line, column) = window(source.line_at(label.span.start), start.column - 1);
            let width = width.min(line.chars().count().saturating_sub(column).max(1));
            let lead: String = line.chars().take(column).map(|c| if c == '\t' { '\t' } else { ' ' }).collect();
            let _ = writeln!(out, "  {}:{}:{}", start.file, start.line, start.column);
            let _ = writeln!(out, "  {:>4} | {line}", start.line);
            let _ = writeln!(out, "       | {lead}{} {}", "^".repeat(width), label.text);
        }
        for note in &self.notes {
            let _ = writeln!(out, "  {note}");
        }
        out.lines().map(|line| format!("{}\n", line.trim_end())).collect()
    }
}

/// The longest line that is shown whole, in characters.
const LONGEST_LINE: usize = 160;
/// What is shown before the place that is meant.
const BEFORE: usize = 60;

/// The part of a line around a column, and the column in it.
fn window(line: &str, column: usize) -> (String, usize) {
    if line.chars().nth(LONGEST_LINE).is_none() {
        return (line.to_owned(), column);
    }
    let from = column.saturating_sub(BEFORE);
    let mut part: String = line.chars().skip(from).take(LONGEST_LINE).collect();
    if line.chars().nth(from + LONGEST_LINE).is_some() {
        part.push('…');
    }
    match from {
        0 => (part, column),
        _ => (format!("…{part}"), column - from + 1),
    }
}
