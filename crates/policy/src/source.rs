use std::ops::Range;

/// Bytes `start..end` of a source file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Span {
    /// First byte.
    pub start: usize,
    /// One past the last byte.
    pub end: usize,
}

impl Span {
    /// From the beginning of `self` to the end of `other`.
    pub fn to(self, other: Self) -> Self {
        Self { start: self.start, end: other.end.max(self.start) }
    }

    /// For slicing.
    pub fn range(self) -> Range<usize> {
        self.start..self.end
    }
}

/// One policy file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Source {
    /// The file's name, as messages show it.
    pub name: String,
    /// Its text.
    pub text: String,
}

/// A line and column, both counted from 1; columns count characters.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Position {
    /// The line.
    pub line: usize,
    /// The column.
    pub column: usize,
}

impl Source {
    /// Names a text.
    ///
    /// A byte order mark before it is left out, and every end of line is `\n`: where
    /// the old sign for it stands alone, a comment would hide the whole rest.
    pub fn new(name: impl Into<String>, text: impl Into<String>) -> Self {
        let mut text = text.into();
        if text.starts_with('\u{feff}') || text.contains('\r') {
            text = text.trim_start_matches('\u{feff}').replace("\r\n", "\n").replace('\r', "\n");
        }
        Self { name: name.into(), text }
    }

    /// Where a byte offset lies.
    pub fn position(&self, offset: usize) -> Position {
        let before = self.text.get(..offset).unwrap_or(&self.text);
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        Position { line: before.matches('\n').count() + 1, column: before[line_start..].chars().count() + 1 }
    }

    /// The text of a span.
    pub fn slice(&self, span: Span) -> &str {
        self.text.get(span.range()).unwrap_or_default()
    }

    /// The text of a line, counted from 1.
    pub(crate) fn line(&self, number: usize) -> &str {
        self.text.lines().nth(number.saturating_sub(1)).unwrap_or_default()
    }
}
