use std::collections::{BTreeMap, HashMap};

use regnant_base::did_you_mean;
use regnant_policy::{Compiled, STATEMENTS, Statement, StatementKind, StatementValue, Takes};
use regnant_radius::{BuildError, Builder, Code, Dictionary, EncodeError, HEADER_LEN, MAX_LEN, SharedSecret};
use serde::Deserialize;
use thiserror::Error;

use crate::render::acl::filter_rules;

const BUILT_IN: [(&str, &str); 1] = [("standard.toml", include_str!("../../dialects/standard.toml"))];

/// Proxy-State and Message-Authenticator need room in the reply too.
const RESERVED: usize = 512;

/// How one make of NAS wants grants expressed.
#[derive(Clone, Debug)]
pub struct Dialect {
    /// Its name, as NASes refer to it.
    pub name: String,
    /// What it is, for people.
    pub title: String,
    acl: AclEncoding,
    statements: HashMap<String, Vec<Template>>,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Template {
    attribute: String,
    value: String,
}

#[derive(Clone, Copy, Debug, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum AclEncoding {
    NasFilterRule,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    name: String,
    title: String,
    acl: AclEncoding,
    statements: HashMap<String, Vec<Template>>,
}

impl Dialect {
    /// The dialect of the RFCs, which ships with this crate.
    pub fn standard(dictionary: &Dictionary) -> Self {
        let [(file, text)] = BUILT_IN;
        Self::read(file, text, dictionary).expect("the file that ships is checked by the tests")
    }

    /// The files that ship with this crate: names and texts.
    pub fn built_in_files() -> &'static [(&'static str, &'static str)] {
        &BUILT_IN
    }

    /// Reads a dialect file and checks that its attributes exist.
    pub fn read(file: &str, text: &str, dictionary: &Dictionary) -> Result<Self, DialectError> {
        let parsed: File = toml::from_str(text)
            .map_err(|error| DialectError::Syntax { file: file.into(), error: error.to_string() })?;
        for keyword in parsed.statements.keys() {
            if StatementKind::of(keyword).is_none_or(|kind| kind.takes == Takes::Acl) {
                return Err(DialectError::UnknownStatement {
                    file: file.into(),
                    keyword: keyword.clone(),
                    hint: did_you_mean(keyword, STATEMENTS.iter().map(|kind| kind.keyword))
                        .map(|keyword| format!("; did you mean {keyword}?"))
                        .unwrap_or_default(),
                });
            }
        }
        for template in parsed.statements.values().flatten() {
            if dictionary.by_name(&template.attribute).is_none() {
                let names = dictionary.definitions().iter().map(|definition| definition.name.as_str());
                return Err(DialectError::UnknownAttribute {
                    file: file.into(),
                    name: template.attribute.clone(),
                    hint: did_you_mean(&template.attribute, names)
                        .map(|name| format!("; did you mean {name}?"))
                        .unwrap_or_default(),
                });
            }
        }
        Ok(Self { name: parsed.name, title: parsed.title, acl: parsed.acl, statements: parsed.statements })
    }

    /// The attributes that a statement goes into, each with its value, in which `{}` stands
    /// for the statement's; nothing where the dialect cannot say it.
    pub fn attributes_of(&self, statement: &StatementKind) -> Vec<(String, String)> {
        let pair = |template: &Template| (template.attribute.clone(), template.value.clone());
        match (&statement.takes, self.acl) {
            (Takes::Acl, AclEncoding::NasFilterRule) => vec![("NAS-Filter-Rule".into(), "{}".into())],
            _ => self.statements.get(statement.keyword).into_iter().flatten().map(pair).collect(),
        }
    }

    /// Encodes what a combination of grants says.
    pub(crate) fn render<'s>(
        &self,
        statements: impl Iterator<Item = &'s Statement>,
        policy: &Compiled,
        dictionary: &Dictionary,
    ) -> Result<Vec<u8>, DialectError> {
        let mut builder = Builder::unsigned(Code::ACCESS_ACCEPT, 0);
        let mut used: BTreeMap<&str, &'static str> = BTreeMap::new();
        for statement in statements {
            if let StatementValue::Acl(name) = &statement.value {
                let acl = policy.acl(name).expect("the check found every access list");
                match self.acl {
                    AclEncoding::NasFilterRule => builder.filter_rules(&filter_rules(acl))?,
                }
                continue;
            }
            let keyword = statement.kind.keyword;
            let templates = self.statements.get(keyword).ok_or(DialectError::NoStatement { keyword })?;
            for template in templates {
                let before = used.insert(&template.attribute, keyword);
                if let Some(other) = before.filter(|other| *other != keyword) {
                    return Err(DialectError::SameAttribute {
                        first: other,
                        second: keyword,
                        attribute: template.attribute.clone(),
                    });
                }
                let value = template.value.replace("{}", &statement.value.to_string());
                builder.encoded(&dictionary.encode([(template.attribute.as_str(), value.as_str())])?)?;
            }
        }
        // Attributes are what follows the header of the packet they were put in.
        let attributes = builder.request(&[0; 16], &SharedSecret::new([])).split_off(HEADER_LEN);
        match attributes.len() > MAX_LEN - RESERVED {
            true => Err(DialectError::TooLong { bytes: attributes.len(), most: MAX_LEN - RESERVED }),
            false => Ok(attributes),
        }
    }
}

/// Why a dialect cannot be read or cannot express a grant.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum DialectError {
    /// The file is not what is expected.
    #[error("{file}: {error}")]
    Syntax {
        /// The file.
        file: String,
        /// What the parser says, with the line.
        error: String,
    },
    /// Writ has no such statement, or it is sent otherwise.
    #[error("{file}: no statement `{keyword}` is sent as attributes{hint}")]
    UnknownStatement {
        /// The file.
        file: String,
        /// The keyword as written.
        keyword: String,
        /// A suggestion, or nothing.
        hint: String,
    },
    /// The dictionary has no such attribute.
    #[error("{file}: there is no attribute `{name}`{hint}")]
    UnknownAttribute {
        /// The file.
        file: String,
        /// The name as written.
        name: String,
        /// A suggestion, or nothing.
        hint: String,
    },
    /// The dialect does not say how to express a statement.
    #[error("it has no way to say `{keyword}`")]
    NoStatement {
        /// The statement.
        keyword: &'static str,
    },
    /// Two statements would go into one attribute.
    #[error("`{first}` and `{second}` both go into {attribute}; use one of them")]
    SameAttribute {
        /// One statement.
        first: &'static str,
        /// The other.
        second: &'static str,
        /// The attribute.
        attribute: String,
    },
    /// The reply would not fit a packet.
    #[error("its attributes take {bytes} bytes and a reply has room for {most}; shorten the access list")]
    TooLong {
        /// Bytes of attributes.
        bytes: usize,
        /// The most that fits.
        most: usize,
    },
    /// A value cannot be encoded.
    #[error(transparent)]
    Encode(#[from] EncodeError),
    /// An attribute cannot be built.
    #[error(transparent)]
    Build(BuildError),
}

impl From<BuildError> for DialectError {
    fn from(error: BuildError) -> Self {
        match error {
            BuildError::PacketTooLong { length } => {
                Self::TooLong { bytes: length - HEADER_LEN, most: MAX_LEN - RESERVED }
            }
            other => Self::Build(other),
        }
    }
}
