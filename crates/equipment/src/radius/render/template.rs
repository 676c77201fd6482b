//! How one value of a statement becomes one attribute.

use std::fmt::Write as _;
use std::sync::Arc;

use regnant_base::{Item, Section, did_you_mean};
use regnant_policy::{Statement, StatementKind, StatementValue, Takes};
use regnant_radius::{Definition, Dictionary, Kind, Quantity};

/// An attribute with a value in which the statement's values stand.
#[derive(Clone, Debug)]
pub(crate) struct Template {
    pub(crate) attribute: Arc<Definition>,
    value: Text,
    /// RFC 2868 section 3.
    pub(crate) tag: u8,
    /// Is added to a number.
    plus: u64,
    /// Divides a number, so that it is told in larger units.
    per: u64,
    /// Words for values; with some, a value that has none cannot be said.
    words: Vec<(String, String)>,
    /// What stands between the values of several statements, which share one attribute.
    pub(crate) join: Option<String>,
    /// Of which statements it is.
    when: Vec<Condition>,
    /// Bytes that its value may have.
    most: usize,
    /// Whether a list that it names is told turned round: what passes is denied there.
    pub(crate) inverted: bool,
}

/// Text with places for values.
#[derive(Clone, Debug)]
struct Text(Vec<Part>);

#[derive(Clone, Debug)]
enum Part {
    Fixed(String),
    /// The value under this word.
    Value(&'static str),
}

/// Something that a statement is, or is not.
#[derive(Clone, Debug)]
struct Condition {
    is: bool,
    what: What,
}

#[derive(Clone, Debug)]
enum What {
    /// Its first value is a number, or a text.
    Number,
    Text,
    /// It has a value under this word.
    Has(&'static str),
}

impl Template {
    pub(crate) fn read(item: Item<'_>, kind: &'static StatementKind, dictionary: &Dictionary) -> Option<Self> {
        let section = item.section("attribute")?;
        let attribute = section.need("attribute").and_then(|item| attribute(item, dictionary));
        let text = section.need("value").and_then(|item| Text::read(item, kind));
        let number = |key, (least, most), otherwise| match section.get(key) {
            Some(item) => item.number(key, (least, most)).map(|number| number.value),
            None => Some(otherwise),
        };
        let tag = number("tag", (0, 31), 0);
        let (plus, per) = (number("plus", (0, u32::MAX.into()), 0), number("per", (1, u32::MAX.into()), 1));
        let most = number("most", (1, 4_000), 4_000);
        let inverted = section.flag("inverted");
        if inverted && !kind.fields.iter().any(|field| field.takes == Takes::Acl) {
            section.wrong(format!("`{}` names no list that could be inverted", kind.keyword));
        }
        let join = section.text("join").map(|text| text.value.to_owned());
        let words = section.get("words").and_then(|item| words(&item.section("words")?)).unwrap_or_default();
        let when: Vec<_> =
            section.texts("when").iter().filter_map(|text| condition(text.value, kind, &section)).collect();
        if let (Some(attribute), Some(tag)) = (&attribute, tag.filter(|tag| *tag > 0))
            && !attribute.tagged
        {
            section.wrong(format!("`{}` has no tag, and is given the tag {tag}", attribute.name));
        }
        section.close();
        Some(Self {
            attribute: attribute?,
            value: text?,
            tag: tag? as u8,
            plus: plus?,
            per: per?,
            words,
            join,
            when,
            most: most? as usize,
            inverted,
        })
    }

    /// Whether a statement is told by it.
    pub(crate) fn is_for(&self, statement: &Statement) -> bool {
        self.when.iter().all(|condition| condition.holds(statement))
    }

    /// The value for a statement, as the dictionary reads it; or why there is none.
    pub(crate) fn value(&self, statement: &Statement) -> Result<String, String> {
        let mut text = String::new();
        for part in &self.value.0 {
            match part {
                Part::Fixed(fixed) => text.push_str(fixed),
                Part::Value(word) => match statement.field(word) {
                    Some(value) => text.push_str(&self.one(value)?),
                    None => return Err(format!("`{}` says nothing of `{word}`", statement.kind.keyword)),
                },
            }
        }
        match text.len() <= self.most {
            true => Ok(text),
            false => Err(format!("{} may have {} bytes here, and has {}", self.attribute.name, self.most, text.len())),
        }
    }

    fn one(&self, value: &StatementValue) -> Result<String, String> {
        let text = value.to_string();
        if !self.words.is_empty() {
            let word = self.words.iter().find(|(known, _)| *known == text).map(|(_, word)| word.clone());
            return word.ok_or_else(|| format!("there is no word for `{text}` in {}", self.attribute.name));
        }
        let number = match value {
            StatementValue::Number(number) => u64::try_from(*number).ok(),
            StatementValue::Duration(seconds) => Some(u64::from(*seconds)),
            StatementValue::Rate(bits) => Some(*bits),
            _ => None,
        };
        Ok(match number {
            // Rather more than was granted than none at all, which many makes take for no limit.
            Some(number) => (number.div_ceil(self.per) + self.plus).to_string(),
            None => text,
        })
    }

    /// Its value with the places for values as people write them.
    pub(crate) fn shown(&self) -> String {
        let mut text = String::new();
        for part in &self.value.0 {
            let _ = match part {
                Part::Fixed(fixed) => write!(text, "{fixed}"),
                Part::Value(word) => write!(text, "{{{word}}}"),
            };
        }
        text
    }
}

impl Text {
    fn read(item: Item<'_>, kind: &'static StatementKind) -> Option<Self> {
        let text = item.text("value")?.value;
        let (mut parts, mut rest) = (Vec::new(), text);
        while let Some((before, after)) = rest.split_once('{') {
            let Some((word, after)) = after.split_once('}') else {
                item.wrong("a brace is opened and not closed");
                return None;
            };
            let known = || kind.fields.iter().map(|field| field.word);
            let Some(word) = known().find(|known| *known == word) else {
                let all: Vec<_> = known().map(|word| format!("{{{word}}}")).collect();
                let hint = did_you_mean(word, known()).map_or_else(
                    || format!("there are: {}", all.join(", ")),
                    |known| format!("did you mean {{{known}}}?"),
                );
                item.wrong(format!("`{}` has no value {{{}}}; {hint}", kind.keyword, word.escape_debug()));
                return None;
            };
            parts.extend((!before.is_empty()).then(|| Part::Fixed(before.to_owned())));
            parts.push(Part::Value(word));
            rest = after;
        }
        parts.extend((!rest.is_empty()).then(|| Part::Fixed(rest.to_owned())));
        Some(Self(parts))
    }
}

impl Condition {
    fn holds(&self, statement: &Statement) -> bool {
        let holds = match self.what {
            What::Number => matches!(statement.value(), Some(StatementValue::Number(_))),
            What::Text => matches!(statement.value(), Some(StatementValue::Text(_))),
            What::Has(word) => statement.field(word).is_some(),
        };
        holds == self.is
    }
}

fn condition(text: &str, kind: &'static StatementKind, section: &Section<'_>) -> Option<Condition> {
    let (is, word) = text.strip_prefix("not ").map_or((true, text), |word| (false, word));
    let what = match word {
        "number" => Some(What::Number),
        "text" => Some(What::Text),
        word => {
            let field = kind.fields.iter().find(|field| !field.word.is_empty() && field.word == word);
            field.map(|field| What::Has(field.word))
        }
    };
    if what.is_none() {
        let words: Vec<_> = kind.fields.iter().map(|field| field.word).filter(|word| !word.is_empty()).collect();
        let all = [&["number", "text"], &words[..]].concat().join(", ");
        section.wrong(format!(
            "`{}` is no condition; there are: {all}, each with `not` before it too",
            text.escape_debug()
        ));
    }
    Some(Condition { is, what: what? })
}

/// An attribute that an Access-Accept may carry.
pub(crate) fn attribute(item: Item<'_>, dictionary: &Dictionary) -> Option<Arc<Definition>> {
    let name = item.text("attribute")?.value;
    let definition = known_attribute(name, &item, dictionary)?;
    if let Some(why) = cannot_be_sent(&definition) {
        item.wrong(format!("`{name}` cannot be sent: {why}"));
        return None;
    }
    Some(definition)
}

/// An attribute of the dictionary.
pub(crate) fn known_attribute(name: &str, item: &Item<'_>, dictionary: &Dictionary) -> Option<Arc<Definition>> {
    let Some(definition) = dictionary.by_name(name) else {
        let names = dictionary.definitions().iter().map(|definition| definition.name.as_str());
        let hint = did_you_mean(name, names).map(|name| format!("; did you mean {name}?")).unwrap_or_default();
        item.wrong(format!(
            "there is no attribute `{}`{hint}; a vendor's are added with `regnant dictionary add`",
            name.escape_debug()
        ));
        return None;
    };
    Some(definition.clone())
}

/// Why an Access-Accept cannot carry an attribute that somebody asks for.
pub(crate) fn cannot_be_sent(definition: &Definition) -> Option<String> {
    if definition.reserved {
        return Some("the service makes it itself".into());
    }
    if definition.accept == Quantity::None {
        return Some(format!("an Access-Accept never carries it ({})", definition.source));
    }
    if definition.kind.holds_attributes() && definition.kind != Kind::Tlv {
        return Some("it holds other attributes; send those by their names".into());
    }
    None
}

fn words(section: &Section<'_>) -> Option<Vec<(String, String)>> {
    let entries = section.entries();
    Some(
        entries
            .into_iter()
            .filter_map(|(key, item)| Some((key.value.to_owned(), item.text(key.value)?.value.to_owned())))
            .collect(),
    )
}
