//! Grants in the attributes of a make of equipment.

pub(crate) mod acl;
pub(crate) mod asking;
pub(crate) mod dialect;
pub(crate) mod template;

use std::borrow::Cow;
use std::collections::BTreeMap;

use regnant_policy::{Acl, Compiled, Statement, StatementValue};
use regnant_radius::{AttributeList, BuildError, Definition, Dictionary, MAX_LEN, Quantity, ValueError};
use thiserror::Error;

use crate::radius::render::acl::AclCarriage;
use crate::radius::render::dialect::{Dialect, Way};

/// Proxy-State and Message-Authenticator need room in the reply too.
pub(crate) const RESERVED: usize = 512;
/// Around a hidden value: headers of the attribute and of a vendor's inside, tag, salt.
const SECRET_HEADER: usize = 24;

impl Dialect {
    /// Encodes what a combination of grants says; or tells the statement that cannot be said.
    pub fn render(
        &self,
        statements: &[Statement],
        policy: &Compiled,
        dictionary: &Dictionary,
    ) -> Result<Vec<u8>, Box<CannotSay>> {
        let statements = &self.with_labels(statements, policy)?[..];
        let mut rendering = Rendering { list: AttributeList::default(), secret_bytes: 0, used: BTreeMap::new() };
        for (place, statement) in statements.iter().enumerate() {
            let said = rendering.statement(self, statement, &statements[..place], statements, policy, dictionary);
            said.map_err(|error| Box::new(CannotSay { statement: Some(statement.clone()), error }))?;
        }
        // Access lists are what is long.
        let long = statements.iter().find(|statement| statement.kind.keyword == "acl").or(statements.first());
        let whole = |error| Box::new(CannotSay { statement: long.cloned(), error });
        let attributes = rendering.list.encode(dictionary).map_err(|error| whole(error.into()))?;
        let most = self.most_bytes.min(MAX_LEN - RESERVED).saturating_sub(rendering.secret_bytes);
        match attributes.len() > most {
            true => Err(whole(RenderError::TooLong { bytes: attributes.len(), most })),
            false => Ok(attributes),
        }
    }
}

impl Dialect {
    /// Statements in which lists beside `acl` are named as the equipment asks for them.
    fn with_labels(&self, statements: &[Statement], policy: &Compiled) -> Result<Vec<Statement>, Box<CannotSay>> {
        let mut all = statements.to_vec();
        let Some(reference) = self.acl.as_ref().and_then(AclCarriage::reference) else { return Ok(all) };
        for (statement, whole) in all.iter_mut().zip(statements).filter(|(one, _)| one.kind.keyword != "acl") {
            for (_, value) in &mut statement.values {
                if let StatementValue::Acl(name) = value {
                    let acl = policy.acl(name).expect("the check found every access list");
                    let acl = self.as_told(acl, whole.kind.keyword);
                    let cannot = |error| Box::new(CannotSay { statement: Some(whole.clone()), error });
                    *value = StatementValue::Text(reference.label(&acl).map_err(cannot)?);
                }
            }
        }
        Ok(all)
    }

    /// The access lists in these statements that go by their names alone, so that the equipment has to have them.
    pub(crate) fn lists_by_name(&self, statements: &[Statement]) -> Vec<String> {
        let by_name = |statement: &&Statement| match (&self.acl, statement.kind.keyword) {
            (Some(AclCarriage::Reference(_)), _) => false,
            (carriage, "acl") => matches!(carriage, Some(AclCarriage::ByName { .. })),
            _ => true,
        };
        let mut names = Vec::new();
        for (_, value) in statements.iter().filter(by_name).flat_map(|statement| &statement.values) {
            if let StatementValue::Acl(name) = value
                && !names.contains(name)
            {
                names.push(name.clone());
            }
        }
        names
    }

    /// A list as the equipment takes it with this statement.
    pub(crate) fn as_told<'a>(&self, acl: &'a Acl, keyword: &str) -> Cow<'a, Acl> {
        let inverted = match self.statements.get(keyword) {
            Some(Way::Attributes(templates)) => templates.iter().any(|template| template.inverted),
            _ => false,
        };
        if inverted { Cow::Owned(acl::inverted(acl)) } else { Cow::Borrowed(acl) }
    }
}

/// One combination of grants on its way into attributes.
struct Rendering {
    list: AttributeList,
    /// Room for what is put into the reply itself.
    secret_bytes: usize,
    /// Which statement has used an attribute, by its name.
    used: BTreeMap<String, &'static str>,
}

impl Rendering {
    fn statement(
        &mut self,
        dialect: &Dialect,
        statement: &Statement,
        before: &[Statement],
        all: &[Statement],
        policy: &Compiled,
        dictionary: &Dictionary,
    ) -> Result<(), RenderError> {
        let keyword = statement.kind.keyword;
        for needed in dialect.needs.get(keyword).into_iter().flatten() {
            if !all.iter().any(|other| other.kind.keyword == *needed) {
                return Err(RenderError::Needs { keyword, needed });
            }
        }
        if let (Some(name), Some(value)) = (&statement.attribute, statement.value()) {
            let definition =
                dictionary.by_name(name).ok_or_else(|| RenderError::Value(format!("`{name}` is not known")))?;
            self.take(definition, keyword)?;
            if let StatementValue::Secret(_) = value {
                // It is put into the reply itself, hidden for that alone.
                self.secret_bytes += definition.most_secret().next_multiple_of(16) + SECRET_HEADER;
                return Ok(());
            }
            return Ok(self.list.add(definition, 0, &value.to_string())?);
        }
        if let Some(StatementValue::Acl(name)) = statement.value() {
            let carriage = dialect.acl.as_ref().ok_or(RenderError::NoWay { keyword })?;
            let acl = policy.acl(name).expect("the check found every access list");
            carriage.attributes().into_iter().try_for_each(|attribute| self.take(attribute, keyword))?;
            return carriage.render(acl, &mut self.list);
        }
        let templates = match dialect.statements.get(keyword) {
            None => return Err(RenderError::NoWay { keyword }),
            Some(Way::Cannot(why)) => return Err(RenderError::Cannot { keyword, why: why.clone() }),
            Some(Way::Attributes(templates)) => templates,
        };
        let mut said = false;
        for template in templates.iter().filter(|template| template.is_for(statement)) {
            said = true;
            match &template.join {
                None => {
                    self.take(&template.attribute, keyword)?;
                    let value = template.value(statement).map_err(RenderError::Value)?;
                    self.list.add(&template.attribute, template.tag, &value)?;
                }
                // The first of its kind speaks for all.
                Some(_) if before.iter().any(|other| other.kind.keyword == keyword) => {}
                Some(between) => {
                    self.take(&template.attribute, keyword)?;
                    let of_kind = all.iter().filter(|other| other.kind.keyword == keyword);
                    let values = of_kind.map(|other| template.value(other)).collect::<Result<Vec<_>, _>>();
                    let joined = values.map_err(RenderError::Value)?.join(between);
                    self.list.add(&template.attribute, template.tag, &joined)?;
                }
            }
        }
        match said {
            true => Ok(()),
            false => Err(RenderError::Value(format!("it has no way to say `{}`", statement.written()))),
        }
    }

    /// Two statements in one attribute would be read as either.
    fn take(&mut self, attribute: &Definition, keyword: &'static str) -> Result<(), RenderError> {
        let name = attribute.name.clone();
        let Some(other) = self.used.insert(name.clone(), keyword) else { return Ok(()) };
        let may_repeat =
            attribute.accept == Quantity::Any && (other == keyword || other == "send" || keyword == "send");
        match may_repeat {
            true => Ok(()),
            false if other == keyword => Err(RenderError::Twice { attribute: name }),
            false => Err(RenderError::SameAttribute { first: other, second: keyword, attribute: name }),
        }
    }
}

/// What a dialect cannot say of a grant.
#[derive(Clone, Debug, PartialEq)]
pub struct CannotSay {
    /// The statement; none where it is all of them together.
    pub statement: Option<Statement>,
    /// Why.
    pub error: RenderError,
}

/// Why a dialect cannot express a grant.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum RenderError {
    /// The dialect says nothing of the statement.
    #[error("it has no way to say `{keyword}`")]
    NoWay {
        /// The statement.
        keyword: &'static str,
    },
    /// The dialect says that it cannot be said.
    #[error("it cannot say `{keyword}`: {why}")]
    Cannot {
        /// The statement.
        keyword: &'static str,
        /// Why, in the words of the dialect.
        why: String,
    },
    /// A statement works only with another.
    #[error("`{keyword}` does nothing there without `{needed}`: add it to the grant")]
    Needs {
        /// The statement.
        keyword: &'static str,
        /// The other.
        needed: &'static str,
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
    /// An attribute may come once.
    #[error("{attribute} would be there twice, and may be there once")]
    Twice {
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
    /// A value has no form there.
    #[error("{0}")]
    Value(String),
    /// The dictionary refuses a value.
    #[error(transparent)]
    Encode(#[from] ValueError),
    /// An attribute cannot be built.
    #[error(transparent)]
    Build(BuildError),
}

impl From<BuildError> for RenderError {
    fn from(error: BuildError) -> Self {
        match error {
            BuildError::PacketTooLong { length } => Self::TooLong { bytes: length, most: MAX_LEN - RESERVED },
            other => Self::Build(other),
        }
    }
}
