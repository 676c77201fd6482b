use std::collections::{HashMap, HashSet};

use crate::run::method::IdentityKind;
use crate::value::Value;

/// The number of a fact in its [`Schema`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FactId(pub u16);

/// What a fact's values are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Type {
    /// Text that minds case, or not.
    Text {
        /// Whether case does not count.
        ignore_case: bool,
    },
    /// A whole number.
    Integer,
    /// True or false.
    Boolean,
    /// An IP address.
    Address,
    /// A MAC address.
    Mac,
    /// A duration.
    Duration,
    /// A moment.
    Instant,
    /// One of named numbers.
    Enumeration(Vec<(String, i64)>),
    /// Several values of a type.
    Set(Box<Type>),
}

impl Type {
    /// Text in which case does not count.
    pub const NAME: Self = Self::Text { ignore_case: true };

    /// How messages name the type.
    pub fn describe(&self) -> String {
        match self {
            Self::Text { .. } => "a text".into(),
            Self::Integer => "a number".into(),
            Self::Boolean => "true or false".into(),
            Self::Address => "an address".into(),
            Self::Mac => "a MAC address".into(),
            Self::Duration => "a duration".into(),
            Self::Instant => "a moment".into(),
            Self::Enumeration(_) => "one of a fixed list of words".into(),
            Self::Set(of) => match **of {
                Self::Text { .. } => "a set of texts".into(),
                _ => "a set of values".into(),
            },
        }
    }

    /// Shows a value of this type as it would be written in Writ.
    pub fn show(&self, value: &Value<'_>) -> String {
        match (self, value) {
            (Self::Enumeration(variants), Value::Integer(number)) => {
                let name = variants.iter().find(|(_, known)| known == number).map(|(name, _)| name.clone());
                name.unwrap_or_else(|| number.to_string())
            }
            _ => value.to_string(),
        }
    }

    /// A value of this type as a literal that reads as the same; none where it has none.
    pub fn write(&self, value: &Value<'_>) -> Option<String> {
        match (self, value) {
            (_, Value::Text(text)) => text.chars().all(stands_in_quotes).then(|| quoted(text)),
            (Self::Set(of), Value::Set(members)) => {
                let members = members.iter().map(|member| of.write(member)).collect::<Option<Vec<_>>>()?;
                Some(if members.is_empty() { "{ }".into() } else { format!("{{ {} }}", members.join(", ")) })
            }
            (_, Value::Block(..) | Value::Set(_)) => None,
            _ => Some(self.show(value)),
        }
    }

    pub(crate) fn ignores_case(&self) -> bool {
        match self {
            Self::Text { ignore_case } => *ignore_case,
            Self::Set(of) => of.ignores_case(),
            _ => false,
        }
    }
}

/// A text as it stands in a policy: in quotes, without the control characters that cannot.
pub fn quoted(text: &str) -> String {
    let text: String = text.chars().filter(|c| stands_in_quotes(*c)).collect();
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n"))
}

fn stands_in_quotes(c: char) -> bool {
    !c.is_control() || c == '\n'
}

/// From when on a fact is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Stage {
    /// From the first packet, so that a gate's `when` may ask for it.
    FirstPacket,
    /// Once everybody is proved and looked up, so that rules may ask for it.
    Proof,
    /// After the rules, for the journal alone.
    End,
}

/// One fact that policies may ask about.
#[derive(Clone, Debug)]
pub struct FactDefinition {
    /// Its name, such as `nas.site`.
    pub name: String,
    /// Other names that people know it by.
    pub also: Vec<String>,
    /// Its type.
    pub kind: Type,
    /// From when on it is known.
    pub known: Stage,
    /// Whether every request has it.
    pub always: bool,
    /// What it means, for people.
    pub meaning: String,
}

/// All facts, and the stores that identities may be looked up in.
#[derive(Clone, Debug, Default)]
pub struct Schema {
    facts: Vec<FactDefinition>,
    by_name: HashMap<String, FactId>,
    stores: Option<Vec<KnownStore>>,
    certificates: Option<Vec<String>>,
    trusts: Option<Vec<String>>,
    attributes: HashMap<String, SentAttribute>,
    secrets: Option<Vec<String>>,
    groups: HashMap<IdentityKind, (Names, KnownGroups)>,
    more_stores: bool,
    values: HashMap<FactId, Names>,
}

/// Names that are known, found whatever their case.
#[derive(Clone, Debug, Default)]
pub(crate) struct Names {
    all: Vec<String>,
    folded: HashSet<String>,
}

impl Names {
    fn new(all: Vec<String>) -> Self {
        Self { folded: all.iter().map(|name| name.to_lowercase()).collect(), all }
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    pub(crate) fn has(&self, name: &str) -> bool {
        self.folded.contains(&name.to_lowercase())
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = &str> {
        self.all.iter().map(String::as_str)
    }
}

/// The groups that identities of a kind may be in, where all are known.
#[derive(Clone, Debug, Default)]
pub struct KnownGroups {
    /// Their names.
    pub names: Vec<String>,
    /// Names that several groups of one store have, in small letters.
    pub twice: Vec<String>,
    /// How many seconds ago it was looked, at the longest.
    pub looked: Option<u64>,
}

/// A store, and a kind of identity that it holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KnownStore {
    /// Its name.
    pub name: String,
    /// What it holds.
    pub holds: IdentityKind,
    /// Whether it tells facts alone, and proves nobody.
    pub facts_only: bool,
    /// What it can check.
    pub checks: Checks,
}

/// What a store can check of what clients send.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Checks {
    /// Passwords.
    pub passwords: bool,
    /// Responses of MS-CHAP, for which it needs an NT hash, or somebody who has it.
    pub mschap: bool,
    /// Responses of CHAP and EAP-MD5, for which it needs the password itself.
    pub challenges: bool,
}

impl Checks {
    /// Whatever is sent.
    pub const ALL: Self = Self { passwords: true, mschap: true, challenges: true };
}

/// An attribute that a grant may name.
#[derive(Clone, Debug)]
pub struct SentAttribute {
    /// Its name.
    pub name: String,
    /// What its values are and where it is defined: `an address, RFC 2865 section 5.8`.
    pub about: String,
    /// Why it cannot be sent, where it cannot.
    pub refused: Option<String>,
    /// Whether it carries a secret, which never stands in a policy: that is named.
    pub secret: bool,
}

impl Schema {
    /// A schema of these facts; a name that comes twice keeps its first meaning.
    pub fn new(definitions: impl IntoIterator<Item = FactDefinition>) -> Self {
        let mut schema = Self::default();
        for definition in definitions {
            let id = FactId(u16::try_from(schema.facts.len()).expect("a schema has fewer than 65,536 facts"));
            for name in [&definition.name].into_iter().chain(&definition.also) {
                schema.by_name.entry(name.to_lowercase()).or_insert(id);
            }
            schema.facts.push(definition);
        }
        schema
    }

    /// The same facts with these stores, each with what it holds; without, any name of a store passes the check.
    pub fn with_stores(mut self, stores: impl IntoIterator<Item = KnownStore>) -> Self {
        self.stores = Some(stores.into_iter().collect());
        self
    }

    /// The same; there may be other stores too, so that one that is not known is told and passes.
    pub fn with_more_stores(mut self) -> Self {
        self.more_stores = true;
        self
    }

    /// Whether there may be stores that are not known.
    pub(crate) fn more_stores(&self) -> bool {
        self.more_stores
    }

    /// The same facts with all texts that a fact can be, where equipment has them: another is told.
    pub fn with_values(mut self, fact: &str, values: Vec<String>) -> Self {
        if let Some(id) = self.find(fact) {
            self.values.insert(id, Names::new(values));
        }
        self
    }

    /// All texts that a fact can be, where they are known.
    pub(crate) fn values(&self, id: FactId) -> Option<&Names> {
        self.values.get(&id)
    }

    /// The same facts with the groups that identities of a kind may be in; without, any name passes
    /// the check.
    pub fn with_groups(mut self, kind: IdentityKind, mut groups: KnownGroups) -> Self {
        let names = Names::new(std::mem::take(&mut groups.names));
        self.groups.insert(kind, (names, groups));
        self
    }

    /// The groups of a kind, where they are known.
    pub(crate) fn groups(&self, kind: IdentityKind) -> Option<&(Names, KnownGroups)> {
        self.groups.get(&kind)
    }

    /// The same facts with these certificates to present and these trusts;
    /// without, any name passes the check.
    pub fn with_certificates(
        mut self,
        certificates: impl IntoIterator<Item = String>,
        trusts: impl IntoIterator<Item = String>,
    ) -> Self {
        self.certificates = Some(certificates.into_iter().collect());
        self.trusts = Some(trusts.into_iter().collect());
        self
    }

    /// The same facts with these attributes, which grants may send, each by its names.
    pub fn with_attributes(mut self, attributes: impl IntoIterator<Item = (String, SentAttribute)>) -> Self {
        self.attributes = attributes.into_iter().map(|(name, attribute)| (name.to_lowercase(), attribute)).collect();
        self
    }

    /// The same facts with these secrets, which grants may name; without, any name passes the
    /// check.
    pub fn with_secrets(mut self, names: impl IntoIterator<Item = String>) -> Self {
        self.secrets = Some(names.into_iter().collect());
        self
    }

    /// The names of all secrets, where they are known.
    pub(crate) fn secrets(&self) -> Option<&[String]> {
        self.secrets.as_deref()
    }

    /// The attribute of this name; case does not count.
    pub(crate) fn attribute(&self, name: &str) -> Option<&SentAttribute> {
        self.attributes.get(&name.to_lowercase())
    }

    /// Every attribute that a grant may name.
    pub(crate) fn attributes(&self) -> impl Iterator<Item = &SentAttribute> {
        self.attributes.values()
    }

    /// The fact of this name; case does not count, as attribute names vary.
    pub fn find(&self, name: &str) -> Option<FactId> {
        self.by_name.get(&name.to_lowercase()).copied()
    }

    /// What is known of a fact.
    pub fn definition(&self, id: FactId) -> &FactDefinition {
        &self.facts[usize::from(id.0)]
    }

    /// Every fact with its number.
    pub fn facts(&self) -> impl Iterator<Item = (FactId, &FactDefinition)> {
        self.facts.iter().enumerate().map(|(index, definition)| (FactId(index as u16), definition))
    }

    pub(crate) fn names(&self) -> impl Iterator<Item = &str> {
        self.facts.iter().map(|definition| definition.name.as_str())
    }

    /// The names of all certificates to present, where they are known.
    pub(crate) fn certificates(&self) -> Option<&[String]> {
        self.certificates.as_deref()
    }

    /// The names of all trusts, where they are known.
    pub(crate) fn trusts(&self) -> Option<&[String]> {
        self.trusts.as_deref()
    }

    /// The names of all stores, where they are known.
    pub(crate) fn stores(&self) -> Option<&[KnownStore]> {
        self.stores.as_deref()
    }
}
