use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::OnceLock;

use serde::{Deserialize, Serialize};

/// The file that a policy begins with.
pub const MAIN: &str = "main.writ";

/// Bytes `start..end` of a source.
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

/// The files of a policy as they are kept: `main.writ`, and those that it may include, by their
/// paths in the folder.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct PolicyFiles {
    /// The text of `main.writ`.
    pub main: String,
    /// The texts of the others.
    pub included: BTreeMap<String, String>,
}

impl From<&str> for PolicyFiles {
    fn from(main: &str) -> Self {
        Self { main: main.to_owned(), included: BTreeMap::new() }
    }
}

impl PolicyFiles {
    /// Every file with its path, `main.writ` first.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &str)> {
        let others = self.included.iter().map(|(path, text)| (path.as_str(), text.as_str()));
        [(MAIN, self.main.as_str())].into_iter().chain(others)
    }
}

/// The files of a policy, as they are read: their spans count through all of them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Source {
    /// The texts, one after the other.
    text: String,
    files: Vec<SourceFile>,
    marks: Marks,
}

/// Lines and columns of places that are not far from each other, once somebody asked for one: each question is as
/// cheap wherever it is about, also in a file of one long line.
#[derive(Clone, Debug, Default)]
struct Marks(OnceLock<Vec<Mark>>);

/// They follow from the text.
impl PartialEq for Marks {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Eq for Marks {}

/// What stands before a place.
#[derive(Clone, Copy, Debug, Default)]
struct Mark {
    offset: usize,
    /// Ends of lines.
    lines: usize,
    /// Characters since the last of them.
    column: usize,
}

/// Bytes between marks.
const APART: usize = 512;

impl Mark {
    /// The same of a place further on.
    fn then(self, between: &str) -> Self {
        let (offset, lines) = (self.offset + between.len(), self.lines + between.matches('\n').count());
        let column = match between.rfind('\n') {
            Some(at) => between[at + 1..].chars().count(),
            None => self.column + between.chars().count(),
        };
        Self { offset, lines, column }
    }
}

/// One file of a source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SourceFile {
    /// Its path in the folder, as messages show it.
    pub name: String,
    /// Where it stands in the source.
    pub span: Span,
}

/// A line and column of a file, both counted from 1; columns count characters.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Position<'s> {
    /// The file.
    pub file: &'s str,
    /// The line.
    pub line: usize,
    /// The column.
    pub column: usize,
}

impl From<&PolicyFiles> for Source {
    fn from(files: &PolicyFiles) -> Self {
        Self::of(files.iter())
    }
}

impl Source {
    /// A policy of one file.
    pub fn new(name: impl Into<String>, text: impl AsRef<str>) -> Self {
        Self::of([(name.into().as_str(), text.as_ref())])
    }

    /// A policy of several files, the one that it begins with first.
    ///
    /// A byte order mark before a file is left out, and every end of line is `\n`: where
    /// the old sign for it stands alone, a comment would hide the whole rest.
    pub fn of<'f>(files: impl IntoIterator<Item = (&'f str, &'f str)>) -> Self {
        let mut source = Self { text: String::new(), files: Vec::new(), marks: Marks::default() };
        for (name, text) in files {
            if !source.text.is_empty() {
                source.text.push('\n');
            }
            let start = source.text.len();
            match text.starts_with('\u{feff}') || text.contains('\r') {
                true => {
                    let text = text.trim_start_matches('\u{feff}').replace("\r\n", "\n").replace('\r', "\n");
                    source.text.push_str(&text);
                }
                false => source.text.push_str(text),
            }
            let span = Span { start, end: source.text.len() };
            source.files.push(SourceFile { name: name.to_owned(), span });
        }
        source
    }

    /// Its files, the one that it begins with first.
    pub fn files(&self) -> &[SourceFile] {
        &self.files
    }

    /// The text of a file of it.
    pub fn text_of(&self, file: &SourceFile) -> &str {
        self.slice(file.span)
    }

    /// The text of the file that it begins with.
    pub fn main(&self) -> &str {
        self.files.first().map_or("", |file| self.text_of(file))
    }

    /// How many bytes all files have.
    pub fn bytes(&self) -> usize {
        self.text.len()
    }

    /// The file in which an offset lies.
    pub fn file_at(&self, offset: usize) -> Option<&SourceFile> {
        let after = self.files.partition_point(|file| file.span.start <= offset);
        self.files[..after].last()
    }

    /// Where a byte offset lies.
    pub fn position(&self, offset: usize) -> Position<'_> {
        let Some(file) = self.file_at(offset) else { return Position { file: "", line: 1, column: 1 } };
        let (first, here) = (self.mark(file.span.start), self.mark(offset.min(file.span.end)));
        Position { file: &file.name, line: here.lines - first.lines + 1, column: here.column + 1 }
    }

    fn mark(&self, offset: usize) -> Mark {
        let offset = self.text.floor_char_boundary(offset);
        let marks = self.marks.0.get_or_init(|| {
            let mut marks = vec![Mark::default()];
            let mut last = Mark::default();
            while last.offset < self.text.len() {
                let end = self.text.ceil_char_boundary(last.offset + APART);
                last = last.then(&self.text[last.offset..end]);
                marks.push(last);
            }
            marks
        });
        let after = marks.partition_point(|mark| mark.offset <= offset);
        let near = marks[..after].last().copied().unwrap_or_default();
        near.then(&self.text[near.offset..offset])
    }

    /// The offset of a line and a column of a file, both counted from 1 and columns in characters, as
    /// [`Self::position`] tells them: the nearest that there is.
    pub fn offset(&self, file: &SourceFile, line: usize, column: usize) -> usize {
        let text = self.text_of(file);
        let start: usize = text.split('\n').take(line.saturating_sub(1)).map(|line| line.len() + 1).sum();
        let line = text.get(start..).and_then(|rest| rest.split('\n').next()).unwrap_or_default();
        let within = line.char_indices().nth(column.saturating_sub(1)).map_or(line.len(), |(at, _)| at);
        file.span.start + start.min(text.len()) + within
    }

    /// The text of a span.
    pub fn slice(&self, span: Span) -> &str {
        self.text.get(span.range()).unwrap_or_default()
    }

    /// The line in which an offset lies.
    pub(crate) fn line_at(&self, offset: usize) -> &str {
        let offset = offset.min(self.text.len());
        let start = self.text.get(..offset).and_then(|before| before.rfind('\n')).map_or(0, |at| at + 1);
        self.text.get(start..).and_then(|rest| rest.lines().next()).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn a_place_is_where_counting_from_the_start_says(
            files in prop::collection::vec("[ -~\\n\u{e9}\u{1f40b}]{0,1400}", 1..4),
        ) {
            let names: Vec<_> = (0..files.len()).map(|number| format!("{number}.writ")).collect();
            let source = Source::of(names.iter().map(String::as_str).zip(files.iter().map(String::as_str)));
            for file in source.files() {
                let text = source.text_of(file);
                for (at, _) in text.char_indices().chain([(text.len(), ' ')]) {
                    let before = &text[..at];
                    let column = before.rsplit('\n').next().unwrap_or_default().chars().count() + 1;
                    let line = before.matches('\n').count() + 1;
                    // An empty file begins where the next one does.
                    if file.span.start < file.span.end {
                        let position = source.position(file.span.start + at);
                        prop_assert_eq!(position, Position { file: &file.name, line, column });
                        prop_assert_eq!(source.offset(file, line, column), file.span.start + at);
                    }
                }
            }
        }
    }
}
