//! Places as the protocol counts them: lines from 0, and in them units of UTF-16.

use lsp_types::{Position, Range};
use regnant_policy::{Source, SourceFile, Span};

/// The offset of a place of a file, or the nearest before it that there is.
pub(crate) fn offset(source: &Source, file: &SourceFile, place: Position) -> usize {
    let text = source.text_of(file);
    let mut start = 0;
    for _ in 0..place.line {
        match text[start..].find('\n') {
            Some(end) => start += end + 1,
            None => return file.span.end,
        }
    }
    let line = text[start..].split('\n').next().unwrap_or_default();
    let mut units = 0;
    let before = line.char_indices().find(|(_, c)| {
        let here = units >= place.character;
        units += c.len_utf16() as u32;
        here
    });
    file.span.start + start + before.map_or(line.len(), |(at, _)| at)
}

/// The place of an offset in its file.
pub(crate) fn position(source: &Source, offset: usize) -> Position {
    let Some(file) = source.file_at(offset) else { return Position::default() };
    let before = source.slice(Span { start: file.span.start, end: offset });
    let line = before.matches('\n').count() as u32;
    let last = before.rsplit('\n').next().unwrap_or_default();
    Position { line, character: last.encode_utf16().count() as u32 }
}

pub(crate) fn range(source: &Source, span: Span) -> Range {
    Range { start: position(source, span.start), end: position(source, span.end) }
}

/// So many characters behind a line and column, both from 1, as findings count.
pub(crate) fn counted(source: &Source, file: &SourceFile, (line, column): (usize, usize), length: usize) -> Span {
    let start = source.offset(file, line, column);
    let rest = source.slice(Span { start, end: file.span.end });
    Span { start, end: start + rest.char_indices().nth(length).map_or(rest.len(), |(at, _)| at) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_counted_in_units_of_utf_16() {
        let source = Source::new("main.writ", "ab\n\u{1F6A2}\u{e9}x\n");
        let file = &source.files()[0];
        let at = |line, character| offset(&source, file, Position { line, character });
        assert_eq!([at(0, 0), at(0, 2), at(0, 9), at(1, 0), at(1, 2), at(1, 3), at(1, 4)], [0, 2, 2, 3, 7, 9, 10]);
        assert_eq!(at(9, 0), source.bytes());
        assert_eq!(position(&source, 9), Position { line: 1, character: 3 });
        assert_eq!(counted(&source, file, (2, 2), 2), Span { start: 7, end: 10 });
        assert_eq!(counted(&source, file, (9, 9), 9), Span { start: 11, end: 11 });
    }
}
