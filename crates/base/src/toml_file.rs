//! Reads a TOML file that a person wrote, and tells every mistake in it with its line.

use std::cell::RefCell;
use std::fmt;

use toml::de::{DeTable, DeValue};

use crate::suggest::did_you_mean;

/// Nobody reads more at a time.
const MOST_MISTAKES: usize = 50;

/// One thing that is wrong with a file, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mistake {
    /// The file.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
    /// What is wrong and what to write instead.
    pub what: String,
}

impl fmt::Display for Mistake {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}: {}", self.file, self.line, self.what)
    }
}

/// Everything that is wrong with a file, in the order of its lines; never empty.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mistakes(Vec<Mistake>);

impl Mistakes {
    /// Each of them.
    pub fn iter(&self) -> std::slice::Iter<'_, Mistake> {
        self.0.iter()
    }
}

impl fmt::Display for Mistakes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (place, mistake) in self.0.iter().enumerate() {
            write!(f, "{}{mistake}", if place == 0 { "" } else { "\n" })?;
        }
        Ok(())
    }
}

impl std::error::Error for Mistakes {}

/// A value, and the line that it stands in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct At<T> {
    /// The value.
    pub value: T,
    /// Its line, from 1.
    pub line: usize,
}

/// A file that is being read. It collects mistakes, so that one reading tells them all.
#[derive(Debug)]
pub struct TomlFile<'f> {
    name: &'f str,
    /// Where each line ends.
    line_ends: Vec<usize>,
    mistakes: RefCell<Vec<Mistake>>,
}

impl<'f> TomlFile<'f> {
    /// Reads a file by `read`, which gets its outermost table and reports what it does not
    /// like. Where anything was reported there is no outcome.
    pub fn read<T>(
        name: &'f str,
        text: &'f str,
        read: impl FnOnce(&Self, &Section<'_>) -> Option<T>,
    ) -> Result<T, Mistakes> {
        let line_ends = text.bytes().enumerate().filter(|(_, byte)| *byte == b'\n').map(|(at, _)| at).collect();
        let file = Self { name, line_ends, mistakes: RefCell::default() };
        let (table, errors) = DeTable::parse_recoverable(text);
        for error in &errors {
            file.wrong(file.line_at(error.span().map_or(0, |span| span.start)), error.message().to_owned());
        }
        // What was read in spite of a mistake of syntax may not be what was meant.
        let outcome = if errors.is_empty() {
            let section = Section { file: &file, table: table.get_ref(), line: 1, asked: RefCell::default() };
            let outcome = read(&file, &section);
            section.close();
            outcome
        } else {
            None
        };
        let mut mistakes = file.mistakes.into_inner();
        match outcome {
            Some(outcome) if mistakes.is_empty() => Ok(outcome),
            _ => {
                if mistakes.is_empty() {
                    mistakes.push(Mistake { file: name.to_owned(), line: 1, what: "it does not read".into() });
                }
                mistakes.sort_by_key(|mistake| mistake.line);
                let more = mistakes.len().saturating_sub(MOST_MISTAKES);
                mistakes.truncate(MOST_MISTAKES);
                if let (Some(last), true) = (mistakes.last_mut(), more > 0) {
                    last.what.push_str(&format!(" (and {more} more; mend these first)"));
                }
                Err(Mistakes(mistakes))
            }
        }
    }

    /// The text under a key of the outermost table, whatever else a file says.
    pub fn text_under(text: &str, key: &str) -> Option<String> {
        let (table, _) = DeTable::parse_recoverable(text);
        let (_, value) = table.get_ref().iter().find(|(known, _)| known.get_ref() == key)?;
        value.get_ref().as_str().map(str::to_owned)
    }

    /// The name of the file.
    pub fn name(&self) -> &'f str {
        self.name
    }

    /// Reports a mistake.
    pub fn wrong(&self, line: usize, what: impl Into<String>) {
        self.mistakes.borrow_mut().push(Mistake { file: self.name.to_owned(), line, what: what.into() });
    }

    fn line_at(&self, offset: usize) -> usize {
        self.line_ends.partition_point(|end| *end < offset) + 1
    }
}

/// A table of a file.
#[derive(Debug)]
pub struct Section<'f> {
    file: &'f TomlFile<'f>,
    table: &'f DeTable<'f>,
    line: usize,
    asked: RefCell<Vec<&'static str>>,
}

impl<'f> Section<'f> {
    /// The line that it begins in.
    pub fn line(&self) -> usize {
        self.line
    }

    /// Reports a mistake of the table as a whole.
    pub fn wrong(&self, what: impl Into<String>) {
        self.file.wrong(self.line, what);
    }

    /// What stands under a key.
    pub fn get(&self, key: &'static str) -> Option<Item<'f>> {
        self.asked.borrow_mut().push(key);
        let (_, value) = self.table.iter().find(|(known, _)| known.get_ref() == key)?;
        Some(Item { file: self.file, value: value.get_ref(), line: self.file.line_at(value.span().start) })
    }

    /// What stands under a key that must be there.
    pub fn need(&self, key: &'static str) -> Option<Item<'f>> {
        let found = self.get(key);
        if found.is_none() {
            self.wrong(format!("`{key}` is missing"));
        }
        found
    }

    /// Every key with what stands under it, where keys are names of the user's own; in the
    /// order of the file.
    pub fn entries(&self) -> Vec<(At<&'f str>, Item<'f>)> {
        let mut entries: Vec<_> = self
            .table
            .iter()
            .map(|(key, value)| {
                let line = self.file.line_at(key.span().start);
                let item = Item { file: self.file, value: value.get_ref(), line };
                (value.span().start, (At { value: key.get_ref().as_ref(), line }, item))
            })
            .collect();
        entries.sort_by_key(|(place, _)| *place);
        entries.into_iter().map(|(_, entry)| entry).collect()
    }

    /// A text; a mistake where it is something else.
    pub fn text(&self, key: &'static str) -> Option<At<&'f str>> {
        self.get(key)?.text(key)
    }

    /// True or false; false where it is not said.
    pub fn flag(&self, key: &'static str) -> bool {
        self.get(key).and_then(|item| item.flag(key)).unwrap_or(false)
    }

    /// A text, or a list of texts.
    pub fn texts(&self, key: &'static str) -> Vec<At<&'f str>> {
        self.get(key).map(|item| item.texts(key)).unwrap_or_default()
    }

    /// One of these words.
    pub fn word<T: Copy>(&self, key: &'static str, words: &[(&'static str, T)]) -> Option<T> {
        self.get(key)?.word(key, words)
    }

    /// Tables under a key: `[[key]]`, or a list of tables in braces.
    pub fn sections(&self, key: &'static str) -> Vec<Section<'f>> {
        let Some(item) = self.get(key) else { return Vec::new() };
        item.list(key).into_iter().filter_map(|item| item.section(key)).collect()
    }

    /// Reports every key that nobody asked for.
    pub fn close(&self) {
        let mut asked = self.asked.borrow_mut();
        if self.table.keys().all(|key| asked.contains(&key.get_ref().as_ref())) {
            return;
        }
        asked.sort_unstable();
        asked.dedup();
        for key in self.table.keys().filter(|key| !asked.contains(&key.get_ref().as_ref())) {
            let hint = did_you_mean(key.get_ref(), asked.iter().copied())
                .map(|known| format!("; did you mean `{known}`?"))
                .unwrap_or_else(|| format!("; there are: {}", asked.iter().copied().collect::<Vec<_>>().join(", ")));
            self.file
                .wrong(self.file.line_at(key.span().start), format!("`{}` means nothing here{hint}", key.get_ref()));
        }
    }
}

/// What stands under a key or in a list.
#[derive(Clone, Copy, Debug)]
pub struct Item<'f> {
    file: &'f TomlFile<'f>,
    value: &'f DeValue<'f>,
    line: usize,
}

impl<'f> Item<'f> {
    /// Its line, from 1.
    pub fn line(&self) -> usize {
        self.line
    }

    /// Reports a mistake about it.
    pub fn wrong(&self, what: impl Into<String>) {
        self.file.wrong(self.line, what);
    }

    fn at<T>(&self, value: T) -> At<T> {
        At { value, line: self.line }
    }

    fn expected<T>(&self, what: &str, expected: &str) -> Option<T> {
        self.wrong(format!("`{what}` must be {expected}, and is {} {}", article(self.value), self.value.type_str()));
        None
    }

    /// A text.
    pub fn text(&self, what: &str) -> Option<At<&'f str>> {
        match self.value {
            DeValue::String(text) => Some(self.at(text.as_ref())),
            _ => self.expected(what, "a text in quotes"),
        }
    }

    /// Whether it is a text.
    pub fn is_text(&self) -> bool {
        matches!(self.value, DeValue::String(_))
    }

    /// Whether it is a table.
    pub fn is_section(&self) -> bool {
        matches!(self.value, DeValue::Table(_))
    }

    /// Whether it is true or false.
    pub fn is_flag(&self) -> bool {
        matches!(self.value, DeValue::Boolean(_))
    }

    /// Whether it is a whole number.
    pub fn is_number(&self) -> bool {
        matches!(self.value, DeValue::Integer(_))
    }

    /// True or false.
    pub fn flag(&self, what: &str) -> Option<bool> {
        match self.value {
            DeValue::Boolean(flag) => Some(*flag),
            _ => self.expected(what, "true or false"),
        }
    }

    /// A whole number within bounds.
    pub fn number(&self, what: &str, (least, most): (u64, u64)) -> Option<At<u64>> {
        let DeValue::Integer(number) = self.value else {
            return self.expected(what, "a whole number");
        };
        let read = u64::from_str_radix(number.as_str(), number.radix()).ok();
        match read.filter(|number| (least..=most).contains(number)) {
            Some(number) => Some(self.at(number)),
            None => {
                self.wrong(format!("`{what}` must be {least} to {most}, and is {}", number.as_str()));
                None
            }
        }
    }

    /// A table.
    pub fn section(&self, what: &str) -> Option<Section<'f>> {
        match self.value {
            DeValue::Table(table) => {
                Some(Section { file: self.file, table, line: self.line, asked: RefCell::default() })
            }
            _ => self.expected(what, "a table"),
        }
    }

    /// What a list holds; anything else by itself, as if it were alone in one.
    pub fn list(&self, _what: &str) -> Vec<Item<'f>> {
        match self.value {
            DeValue::Array(items) => items
                .iter()
                .map(|item| Item { value: item.get_ref(), line: self.file.line_at(item.span().start), ..*self })
                .collect(),
            _ => vec![*self],
        }
    }

    /// A text, or a list of texts.
    pub fn texts(&self, what: &str) -> Vec<At<&'f str>> {
        self.list(what).into_iter().filter_map(|item| item.text(what)).collect()
    }

    /// One of these words.
    pub fn word<T: Copy>(&self, what: &str, words: &[(&'static str, T)]) -> Option<T> {
        let text = self.text(what)?.value;
        let found = words.iter().find(|(known, _)| *known == text).map(|(_, value)| *value);
        if found.is_none() {
            let known = || words.iter().map(|(known, _)| *known);
            let hint = did_you_mean(text, known())
                .map(|known| format!("did you mean `{known}`?"))
                .unwrap_or_else(|| format!("there are: {}", known().collect::<Vec<_>>().join(", ")));
            self.wrong(format!("there is no {what} `{}`; {hint}", text.escape_debug()));
        }
        found
    }
}

fn article(value: &DeValue<'_>) -> &'static str {
    if matches!(value, DeValue::Integer(_) | DeValue::Array(_)) { "an" } else { "a" }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(text: &str) -> Vec<String> {
        let read = TomlFile::read("harbour.toml", text, |_, file| {
            let name = file.need("name").and_then(|item| item.text("name"));
            for one in file.sections("berth") {
                one.get("depth").and_then(|item| item.number("depth", (1, 30)));
                one.word("side", &[("port", 1), ("starboard", 2)]);
                one.flag("lit");
                one.close();
            }
            name.map(|name| name.value.to_owned())
        });
        read.map_or_else(|mistakes| mistakes.iter().map(ToString::to_string).collect(), |name| vec![name])
    }

    #[test]
    fn every_mistake_is_told_with_its_line() {
        assert_eq!(told("name = \"quay\"\nberth = [{ depth = 12, side = \"port\", lit = true }]"), ["quay"]);
        let text =
            "nam = \"quay\"\n\n[[berth]]\ndepth = 31\nside = \"prot\"\n[[berth]]\ndepth = \"deep\"\nlit = 1\nlong = 2";
        assert_eq!(
            told(text),
            [
                "harbour.toml:1: `name` is missing",
                "harbour.toml:1: `nam` means nothing here; did you mean `name`?",
                "harbour.toml:4: `depth` must be 1 to 30, and is 31",
                "harbour.toml:5: there is no side `prot`; did you mean `port`?",
                "harbour.toml:7: `depth` must be a whole number, and is a string",
                "harbour.toml:8: `lit` must be true or false, and is an integer",
                "harbour.toml:9: `long` means nothing here; there are: depth, lit, side",
            ]
        );
    }

    #[test]
    fn mistakes_of_syntax_are_told_alone() {
        let told = told("name = \nberth = 1");
        assert_eq!(told.len(), 1, "{told:?}");
        assert!(told[0].starts_with("harbour.toml:1: "), "{told:?}");
    }
}
