use std::borrow::Cow;
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, OnceLock};

use regnant_base::{did_you_mean, go_on};
use regnant_decision::{ActivePolicy, NasIdentity, Purpose};
use regnant_evidence::{DecidingEdition, Protocol, Protocols};
use regnant_policy::{Acl, Compiled, FactId, Facts, Known, Members, Statement, StatementValue, Value};
use regnant_radius::{Attributes, Definition, MAX_LEN};

use crate::nas::Nas;
use crate::radius;
use crate::radius::privilege::Privilege;
use crate::radius::render::acl::AclCarriage;
use crate::radius::render::asking::Bypass;
use crate::radius::render::dialect::Dialect;
use crate::radius::render::{CannotSay, RESERVED, RenderError};
use crate::radius::secrets::NamedSecrets;
use crate::radius::vocabulary::Vocabulary;

/// The edition that decides, with all that a decision takes of one snapshot.
#[derive(Clone, Debug)]
pub struct ActiveEdition {
    /// The edition.
    pub edition: Arc<Edition>,
    /// Its policy, what its gates offer, and its stores.
    pub policy: ActivePolicy,
    /// The secrets that its grants may name.
    pub secrets: NamedSecrets,
    /// Editions before it, under which access may last.
    pub earlier: Arc<[Arc<Edition>]>,
}

/// A numbered policy with its grants rendered for every dialect. A copy shares all of it.
#[derive(Clone, Debug)]
pub struct Edition {
    /// Its number, from 1.
    pub number: u32,
    /// The policy.
    pub policy: Arc<Compiled>,
    /// The facts and attributes that it was checked with.
    pub vocabulary: Arc<Vocabulary>,
    /// By name.
    dialects: Arc<HashMap<String, InDialect>>,
    /// Secrets that replies carry, by combination of grants: the attribute and the name.
    secrets: Arc<[Vec<NamedSecret>]>,
    /// What makes administrators of equipment, by combination of grants, once somebody asked.
    pub(crate) privileges: Arc<OnceLock<Vec<Option<Privilege>>>>,
}

/// A secret that a reply carries: the attribute, and the name under which it is kept.
type NamedSecret = (Arc<Definition>, String);

/// The grants of a policy in a dialect.
#[derive(Debug)]
struct InDialect {
    dialect: Dialect,
    /// By combination of grants.
    sets: Vec<Result<Prepared, Box<CannotSay>>>,
}

/// What a combination of grants is in a dialect.
#[derive(Debug)]
enum Prepared {
    /// These attributes, encoded.
    Fixed(Vec<u8>),
    /// It depends on facts.
    Varying,
}

impl Edition {
    /// Renders a policy's grants, so that nothing but a copy is left to do while a NAS
    /// waits; only what takes a value from a fact is rendered then.
    pub fn prepare(number: u32, policy: Compiled, dialects: &[Dialect], vocabulary: Arc<Vocabulary>) -> Self {
        let prepare = |dialect: &Dialect| {
            let sets = (0..policy.grant_sets()).map(|grants| prepared(dialect, &policy, grants, &vocabulary)).collect();
            (dialect.name.clone(), InDialect { dialect: dialect.clone(), sets })
        };
        let dialects = Arc::new(dialects.iter().map(prepare).collect());
        let sets = (0..policy.grant_sets()).map(|grants| policy.longest_statements(grants));
        let secrets = sets.map(|statements| secrets_of(&statements, &vocabulary)).collect();
        Self { number, policy: Arc::new(policy), vocabulary, dialects, secrets, privileges: Arc::default() }
    }

    /// The same under the number that it was given.
    #[must_use]
    pub fn numbered(&self, number: u32) -> Self {
        Self { number, ..self.clone() }
    }

    /// What each dialect says of a statement: attributes and the values that they get, none where that is not
    /// known before.
    pub(crate) fn told_of<'e>(
        &'e self,
        statement: &'e Statement,
        varies: bool,
    ) -> impl Iterator<Item = (&'e str, Arc<Definition>, Option<String>)> {
        let by_dialect = self.dialects.iter().map(|(name, known)| (name.as_str(), &known.dialect));
        by_dialect.flat_map(move |(name, dialect)| {
            let told = dialect.told_of(statement, self.vocabulary.dictionary()).into_iter();
            told.map(move |(attribute, value)| (name, attribute, value.filter(|_| !varies)))
        })
    }

    /// The secrets that a combination of grants sends.
    pub(crate) fn secrets(&self, grants: usize) -> &[NamedSecret] {
        self.secrets.get(grants).map_or(&[], Vec::as_slice)
    }

    /// The attributes of a combination of grants for a NAS of this dialect, encoded, where
    /// they are the same whatever is asked.
    pub fn fixed_attributes(&self, dialect: &str, grants: usize) -> Option<&[u8]> {
        match self.dialects.get(dialect)?.sets.get(grants)? {
            Ok(Prepared::Fixed(attributes)) => Some(attributes),
            _ => None,
        }
    }

    /// The attributes of a combination of grants for a NAS of this dialect, encoded; or why
    /// there are none.
    pub fn attributes(&self, dialect: &str, grants: usize, facts: &dyn Facts) -> Result<Cow<'_, [u8]>, String> {
        let unknown = || format!("edition {} does not know the dialect `{dialect}`", self.number);
        let known = self.dialects.get(dialect).ok_or_else(unknown)?;
        match known.sets.get(grants).ok_or_else(unknown)? {
            Ok(Prepared::Fixed(attributes)) => Ok(Cow::Borrowed(attributes)),
            Ok(Prepared::Varying) => {
                let statements = self.policy.statements(grants, facts).map_err(|why| why.to_string())?;
                let rendered = known.dialect.render(&statements, &self.policy, self.vocabulary.dictionary());
                rendered.map(Cow::Owned).map_err(|cannot| self.told(dialect, grants, &cannot.error))
            }
            Err(cannot) => Err(self.told(dialect, grants, &cannot.error)),
        }
    }

    /// In which attribute equipment of this dialect asks for a list, and in which it says
    /// the part; none where it asks for none.
    pub(crate) fn asks_for_lists(&self, dialect: &str) -> Option<(&Definition, &Definition)> {
        let reference = self.dialects.get(dialect)?.dialect.acl.as_ref()?.reference()?;
        Some((&reference.ask, &reference.part))
    }

    /// The entries, part by part, of the list of this name, where some grant can give it to
    /// this NAS.
    pub(crate) fn list_for(&self, nas: &Nas, label: &str) -> Result<Option<Vec<Vec<u8>>>, String> {
        let Some(known) = self.dialects.get(&nas.dialect) else { return Ok(None) };
        let Some(reference) = known.dialect.acl.as_ref().and_then(AclCarriage::reference) else { return Ok(None) };
        let wanted = label.split('@').next().unwrap_or_default();
        let told = |error: RenderError| error.to_string();
        for acl in self.lists_of(nas, &known.dialect).iter().filter(|acl| acl.name == wanted) {
            if reference.label(acl).map_err(told)? == label {
                let most = known.dialect.most_bytes.min(MAX_LEN - RESERVED);
                return reference.parts(acl, self.vocabulary.dictionary(), most).map(Some).map_err(told);
            }
        }
        Ok(None)
    }

    /// The access lists that grants can give to a NAS, as its dialect tells them.
    fn lists_of<'e>(&'e self, nas: &Nas, dialect: &Dialect) -> Vec<Cow<'e, Acl>> {
        let facts = OfNas { edition: self, nas, address: nas.single_address() };
        let gates = (0..self.policy.gates().len()).filter(|gate| self.policy.may_take(*gate, &facts));
        let sets = gates.flat_map(|gate| self.policy.given_by(gate));
        let statements = sets.flat_map(|set| self.policy.longest_statements(set));
        let lists = statements.flat_map(|statement| {
            let keyword = statement.kind.keyword;
            statement.values.into_iter().filter_map(move |(_, value)| match value {
                StatementValue::Acl(name) => Some((name, keyword)),
                _ => None,
            })
        });
        lists.filter_map(|(name, keyword)| Some(dialect.as_told(self.policy.acl(&name)?, keyword))).collect()
    }

    /// What a request of a NAS of this dialect is for, where the dialect knows.
    pub(crate) fn purpose(&self, dialect: &str, attributes: &Attributes<'_>) -> Option<Purpose> {
        self.dialects.get(dialect)?.dialect.purpose(attributes, self.vocabulary.dictionary())
    }

    /// Whether a MAC bypass of a NAS of this dialect may come so; of one that the edition does
    /// not know as usual, so that it is told what is wrong.
    pub(crate) fn takes_bypass(&self, dialect: &str, by: Bypass) -> bool {
        match self.dialects.get(dialect) {
            Some(known) => known.dialect.takes_bypass(by),
            None => Bypass::USUAL.contains(&by),
        }
    }

    /// Whether equipment of this dialect repeats several Class attributes in its reports.
    pub(crate) fn takes_several_classes(&self, dialect: &str) -> bool {
        self.dialects.get(dialect).is_some_and(|known| known.dialect.several_classes)
    }

    fn told(&self, dialect: &str, grants: usize, error: &RenderError) -> String {
        format!("the dialect `{dialect}` cannot tell {}: {error}", self.names(grants))
    }

    fn names(&self, grants: usize) -> String {
        self.policy.grants(grants).map(|grant| grant.name.as_str()).collect::<Vec<_>>().join(", ")
    }

    /// What some NAS could be granted and not told: every combination of grants of a gate
    /// that may take its requests. Its address is known where it has one alone.
    pub fn lacks(&self, nas: &NasIdentity, address: Option<IpAddr>) -> Vec<GrantProblem> {
        let facts = OfNas { edition: self, nas, address };
        let gates = (0..self.policy.gates().len()).filter(|gate| self.policy.may_take(*gate, &facts));
        let mut sets: Vec<_> = gates.flat_map(|gate| self.policy.given_by(gate)).collect();
        sets.sort_unstable();
        sets.dedup();
        let Some(known) = self.dialects.get(&nas.dialect) else {
            return vec![GrantProblem {
                grants: String::new(),
                dialect: nas.dialect.clone(),
                cannot: CannotSay { statement: None, error: RenderError::Value("there is no such dialect".into()) },
            }];
        };
        let problem = |set: usize| {
            let cannot = known.sets[set].as_ref().err()?;
            Some(GrantProblem { grants: self.names(set), dialect: nas.dialect.clone(), cannot: (**cannot).clone() })
        };
        sets.into_iter().filter_map(problem).collect()
    }

    /// What a NAS of a dialect would be told of grants of the policy, by their names; an error
    /// says which of them there is not.
    pub fn preview(&self, dialect: &str, grants: &[&str]) -> Result<Preview, String> {
        let known = self.dialects.get(dialect);
        let known = known.ok_or_else(|| format!("edition {} does not know the dialect `{dialect}`", self.number))?;
        let (statements, varies) = self.policy.longest_of(grants).map_err(|name| {
            let names = self.policy.grant_names();
            let hint = did_you_mean(name, names).map(|name| format!(" Did you mean `{name}`?")).unwrap_or_default();
            format!("There is no grant `{name}` in edition {}.{hint}", self.number)
        })?;
        Ok(match known.dialect.render(&statements, &self.policy, self.vocabulary.dictionary()) {
            Ok(attributes) => {
                let shown = Attributes::read(&attributes).unwrap_or_default();
                let mut shown = self.vocabulary.dictionary().show_all(shown);
                let secrets = secrets_of(&statements, &self.vocabulary).into_iter();
                shown.extend(secrets.map(|(attribute, name)| (attribute.name.clone(), format!("(secret {name})"))));
                let lists_by_name = known.dialect.lists_by_name(&statements);
                Preview { shown, attributes, varies, lists_by_name, cannot: None }
            }
            Err(cannot) => Preview { cannot: Some(cannot.error.to_string()), varies, ..Preview::default() },
        })
    }

    /// What a dialect cannot tell of all that the policy gives.
    pub fn problems_in(&self, dialect: &str) -> Vec<GrantProblem> {
        let sets = self.dialects.get(dialect).into_iter().flat_map(|known| known.sets.iter().enumerate());
        let problems = sets.filter_map(|(set, prepared)| Some((set, prepared.as_ref().err()?)));
        problems
            .map(|(set, cannot)| GrantProblem {
                grants: self.names(set),
                dialect: dialect.to_owned(),
                cannot: (**cannot).clone(),
            })
            .collect()
    }
}

/// As whoever reads of its decisions needs it.
impl DecidingEdition for Edition {
    fn number(&self) -> u32 {
        self.number
    }

    fn policy(&self) -> &Compiled {
        &self.policy
    }

    fn protocols(&self) -> &dyn Protocols {
        &*self.vocabulary
    }

    fn granted(&self, protocol: Protocol, dialect: &str, grants: usize) -> Option<&[u8]> {
        self.fixed_attributes(dialect, grants).filter(|_| protocol == radius::PROTOCOL)
    }
}

/// The attributes that carry secrets, with the names of those.
fn secrets_of(statements: &[Statement], vocabulary: &Vocabulary) -> Vec<(Arc<Definition>, String)> {
    let secrets = statements.iter().filter_map(|statement| match (&statement.attribute, statement.value()) {
        (Some(attribute), Some(StatementValue::Secret(name))) => {
            Some((vocabulary.dictionary().by_name(attribute)?.clone(), name.clone()))
        }
        _ => None,
    });
    secrets.collect()
}

fn prepared(
    dialect: &Dialect,
    policy: &Compiled,
    set: usize,
    vocabulary: &Vocabulary,
) -> Result<Prepared, Box<CannotSay>> {
    go_on();
    let rendered = dialect.render(&policy.longest_statements(set), policy, vocabulary.dictionary());
    match (rendered, policy.varies(set)) {
        (Ok(attributes), false) => Ok(Prepared::Fixed(attributes)),
        (Ok(_), true) => Ok(Prepared::Varying),
        // The longest value is long and nothing else; whether the true one suits is seen then.
        (Err(cannot), true) if matches!(cannot.error, RenderError::Value(_) | RenderError::Encode(_)) => {
            Ok(Prepared::Varying)
        }
        (Err(cannot), _) => Err(cannot),
    }
}

/// What is known of a NAS before it asks anything.
struct OfNas<'n> {
    edition: &'n Edition,
    nas: &'n NasIdentity,
    /// Where it has one alone.
    address: Option<IpAddr>,
}

impl Facts for OfNas<'_> {
    fn fact(&self, id: FactId) -> Known<Value<'_>> {
        let definition = self.edition.vocabulary.schema().definition(id);
        match definition.name.as_str() {
            "nas.name" => Known::Is(Value::text(&self.nas.name)),
            "nas.site" => Known::Is(Value::text(&self.nas.site)),
            "nas.dialect" => Known::Is(Value::text(&self.nas.dialect)),
            "nas.tags" => Known::Is(Value::Set(Members::Borrowed(&self.nas.tags))),
            "nas.kind" => Known::Is(Value::Integer(self.nas.kind as i64)),
            "nas.address" => self.address.map_or(Known::Unanswered, |address| Known::Is(Value::Address(address))),
            _ => Known::Unanswered,
        }
    }
}

/// What a NAS would be told.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Preview {
    /// The attributes in words.
    pub shown: Vec<(String, String)>,
    /// The same, encoded; secrets are hidden anew in each reply and not here.
    pub attributes: Vec<u8>,
    /// Whether some value comes from a fact; the longest that it may be is shown.
    pub varies: bool,
    /// Access lists of which the equipment is told the name alone: it has to have them already.
    pub lists_by_name: Vec<String>,
    /// What cannot be said, where something cannot.
    pub cannot: Option<String>,
}

/// A grant that a dialect cannot express.
#[derive(Clone, Debug, PartialEq)]
pub struct GrantProblem {
    /// The grant or grants.
    pub grants: String,
    /// The dialect.
    pub dialect: String,
    /// Which statement, and why.
    pub cannot: CannotSay,
}

impl GrantProblem {
    /// Whether another dialect may be able to: what contradicts itself none is.
    pub fn is_of_dialect(&self) -> bool {
        matches!(self.cannot.error, RenderError::Cannot { .. } | RenderError::NoWay { .. })
    }
}

impl std::fmt::Display for GrantProblem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "the dialect `{}` cannot tell {}: {}", self.dialect, self.grants, self.cannot.error)
    }
}
