use std::collections::BTreeMap;

use crate::assist::explain::{fact_title, word_text};
use crate::assist::names::word;
use crate::assist::{is_of_policy, name_in, names};
use crate::check::FUNCTIONS;
use crate::parse::Role;
use crate::parse::notes::{NamedAt, Wanted};
use crate::parse::read_wanted;
use crate::run::method::{IdentityKind, Inner, Method};
use crate::schema::{Schema, SentAttribute, Type, quoted};
use crate::source::{Source, Span};
use crate::window::DAYS;

/// What may stand at a place.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Completions {
    /// What each of them replaces: what is written of it already.
    pub span: Span,
    /// All of them; names before words of the language.
    pub items: Vec<Completion>,
}

/// Something that may stand at a place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Completion {
    /// What is written.
    pub text: String,
    /// What it is.
    pub kind: CompletionKind,
    /// What it is, in a few words.
    pub detail: String,
}

/// What something that may stand at a place is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum CompletionKind {
    /// A name that the policy gives something.
    Name,
    /// A value that a fact can have, or a name of the records.
    Value,
    /// A fact.
    Fact,
    /// A word of the language.
    Word,
}

/// What may stand at an offset of a policy.
pub fn complete(source: &Source, offset: usize, schema: &Schema) -> Completions {
    let Some(file) = source.file_at(offset) else { return Completions::default() };
    let before = source.slice(Span { start: file.span.start, end: offset });
    let Some(written) = written_of_it(before) else { return Completions::default() };
    // Editors close a text where it is opened.
    let closes = written.starts_with('"') && source.slice(Span { start: offset, end: file.span.end }).starts_with('"');
    let span = Span { start: offset - written.len(), end: offset + usize::from(closes) };
    let before = &before[..before.len() - written.len()];
    let Some((subject, mut wanted)) = read_wanted(before, file.span.start) else { return Completions::default() };
    let about = source.slice(subject).to_owned();
    let mut all = BTreeMap::new();
    let offered = Offered { source, schema, about, names: names(source) };
    // Several parts of the grammar may look for the same.
    wanted.sort_unstable();
    wanted.dedup();
    for wanted in wanted {
        match wanted {
            Wanted::Word(text) => {
                let detail = word_text(&text).unwrap_or_default().to_owned();
                all.entry((CompletionKind::Word, text)).or_insert(detail);
            }
            Wanted::Name(role) => offered.of(role).into_iter().for_each(|(kind, text, detail)| {
                all.entry((kind, text)).or_insert(detail);
            }),
        }
    }
    let quotes = written.starts_with('"');
    let start = written.to_lowercase();
    let fits = |text: &str| {
        let text = text.to_lowercase();
        // In the middle of a name people look for its parts.
        text.starts_with(&start)
            || text.split(['.', '-']).skip(1).any(|part| !start.is_empty() && part.starts_with(&start))
    };
    let items = all.into_iter().map(|((kind, text), detail)| Completion { text, kind, detail });
    Completions { span, items: items.filter(|item| item.text.starts_with('"') >= quotes && fits(&item.text)).collect() }
}

/// Functions of texts.
fn functions() -> Vec<Offer> {
    let function =
        |(name, _): &(&str, usize)| (CompletionKind::Word, (*name).to_owned(), format!("a function: {name}(...)"));
    FUNCTIONS.iter().map(function).collect()
}

/// What stands before the place of the word or text that is being written there; none in a comment, where
/// people write what they like.
fn written_of_it(before: &str) -> Option<&str> {
    let line = before.rsplit('\n').next().unwrap_or_default();
    let (mut open, mut escaped) = (None, false);
    for (at, c) in line.char_indices() {
        match (c, open) {
            ('#', None) => return None,
            ('"', None) => open = Some(at),
            ('"', Some(_)) if !escaped => open = None,
            _ => {}
        }
        escaped = c == '\\' && !escaped && open.is_some();
    }
    if let Some(open) = open {
        return Some(&line[open..]);
    }
    let word = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | ':');
    Some(&line[line.trim_end_matches(word).len()..])
}

type Offer = (CompletionKind, String, String);

struct Offered<'s> {
    source: &'s Source,
    schema: &'s Schema,
    /// What a comparison is about.
    about: String,
    /// Every name of the policy.
    names: Vec<NamedAt>,
}

impl Offered<'_> {
    fn of(&self, role: Role) -> Vec<Offer> {
        let values = |names: Vec<String>| {
            let value = |name: String| (CompletionKind::Value, name, word(role).to_owned());
            names.into_iter().map(value).collect::<Vec<_>>()
        };
        let texts =
            |names: Option<&[String]>| values(names.unwrap_or_default().iter().map(|name| quoted(name)).collect());
        match role {
            Role::Fact => [self.facts(), self.named(Role::Define), self.identities(), functions()].concat(),
            Role::Value => [self.values(), self.facts_of_it()].concat(),
            // After `in` stands a list, or a range or block.
            Role::List => [self.named(Role::List), self.values()].concat(),
            Role::Store => {
                let mut stores: Vec<_> =
                    self.schema.stores().into_iter().flatten().map(|store| store.name.clone()).collect();
                stores.dedup();
                values(stores)
            }
            Role::Group => self.groups(),
            Role::Certificate => texts(self.schema.certificates()),
            Role::Trust => texts(self.schema.trusts()),
            Role::Secret => texts(self.schema.secrets()),
            Role::Attribute => {
                let sendable = self.schema.attributes().filter(|attribute| attribute.refused.is_none());
                let offer = |attribute: &SentAttribute| {
                    (CompletionKind::Value, attribute.name.clone(), attribute.about.clone())
                };
                sendable.map(offer).collect()
            }
            Role::Method => values(Method::ALL.iter().map(|(word, _)| (*word).to_owned()).collect()),
            Role::Inner => values(Inner::ALL.iter().map(|(word, _)| (*word).to_owned()).collect()),
            Role::File => {
                let files = self.source.files().iter().skip(1);
                values(files.map(|file| quoted(&file.name)).collect())
            }
            Role::Zone => values(jiff::tz::db().available().map(|zone| quoted(&zone.to_string())).collect()),
            role if is_of_policy(role) => self.named(role),
            _ => Vec::new(),
        }
    }

    /// Names that the policy gives things of a role.
    fn named(&self, role: Role) -> Vec<Offer> {
        let given = self.names.iter().filter(|named| named.defines && named.role == role);
        let text = |name: &str| if role == Role::Rule { quoted(name) } else { name.to_owned() };
        given.map(|named| (CompletionKind::Name, text(name_in(self.source, named)), word(role).to_owned())).collect()
    }

    fn facts(&self) -> Vec<Offer> {
        let facts = self.schema.facts().map(|(_, definition)| definition);
        facts.map(|fact| (CompletionKind::Fact, fact.name.clone(), fact_title(fact))).collect()
    }

    /// Whoever may be in a group.
    fn identities(&self) -> Vec<Offer> {
        let facts = self.schema.facts().filter_map(|(_, definition)| definition.name.strip_suffix(".groups"));
        facts.map(|who| (CompletionKind::Word, who.to_owned(), format!("{who} in group \"...\""))).collect()
    }

    /// Facts that may be compared with what a comparison is about.
    fn facts_of_it(&self) -> Vec<Offer> {
        let Some(id) = self.schema.find(&self.about) else { return Vec::new() };
        let kind = &self.schema.definition(id).kind;
        if matches!(kind, Type::Enumeration(_) | Type::Boolean | Type::Set(_)) {
            return Vec::new();
        }
        let alike = |other: &Type| std::mem::discriminant(other) == std::mem::discriminant(kind);
        let facts = self.schema.facts().filter(|(other, definition)| *other != id && alike(&definition.kind));
        facts.map(|(_, fact)| (CompletionKind::Fact, fact.name.clone(), fact_title(fact))).collect()
    }

    /// Values that what a comparison is about can have.
    fn values(&self) -> Vec<Offer> {
        let Some(id) = self.schema.find(&self.about) else { return Vec::new() };
        let definition = self.schema.definition(id);
        let detail = format!("a value of {}", definition.name);
        let value = |text: String| (CompletionKind::Value, text, detail.clone());
        if let Some(known) = self.schema.values(id) {
            return known.iter().map(|name| value(quoted(name))).collect();
        }
        let kind = match &definition.kind {
            Type::Set(of) => of,
            kind => kind,
        };
        match kind {
            Type::Enumeration(words) => words.iter().map(|(word, _)| value(word.clone())).collect(),
            Type::Instant => DAYS.iter().map(|(day, _)| value((*day).to_owned())).collect(),
            Type::Boolean => ["true", "false"].map(|word| value(word.into())).into(),
            _ => match self.about.split_once('.') {
                Some((_, "groups")) => self.groups(),
                Some((_, "store")) => {
                    self.of(Role::Store).into_iter().map(|(kind, text, detail)| (kind, quoted(&text), detail)).collect()
                }
                _ => Vec::new(),
            },
        }
    }

    /// Groups of whoever stands before `in group`.
    fn groups(&self) -> Vec<Offer> {
        let kind = match self.about.split('.').next() {
            Some("user") => IdentityKind::User,
            Some("machine") => IdentityKind::Machine,
            _ => IdentityKind::Mac,
        };
        let known = self.schema.groups(kind).map(|(names, _)| names);
        let group = |name: &str| (CompletionKind::Value, quoted(name), format!("a group of the kind {}", kind.word()));
        known.into_iter().flat_map(|names| names.iter().map(group).collect::<Vec<_>>()).collect()
    }
}
