//! What a policy is checked against, by names alone: as a service has it, as it was written down, or as an
//! inventory file says. One check for all three.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::Arc;

use regnant_decision::{NasIdentity, NasKind, Store, StoreRegistry};
use regnant_equipment::GrantProblem;
use regnant_policy::{Checks, IdentityKind, KnownGroups, KnownStore, Schema, Source, Value};
use regnant_records::{
    CertificateRow, CommonNameKind, CommonNameRow, Inventory, LanguageRow, NasRow, Reading, RecordsError, SecretRow,
    StoreKind, TrustRow,
};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::administration::report::CheckReport;
use crate::languages::{LanguageError, Languages};
use crate::snapshot::Unfit;

/// What there is that policies may name, and the equipment that grants are told to. No secret is in it, and
/// nobody's name.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Surroundings {
    /// Stores by their names; none where any name passes.
    stores: Option<BTreeMap<String, StoreNames>>,
    /// Groups of people, machines and devices; a kind is left out where not all groups are known.
    groups: BTreeMap<Kind, GroupsOfKind>,
    /// Certificates that can be presented; none where any name passes.
    certificates: Option<Vec<String>>,
    /// Trusts.
    trusts: Option<Vec<String>>,
    /// Secrets that grants may name.
    secrets: Option<Vec<String>>,
    /// Dictionaries, dialects and attributes of the user's own.
    languages: Vec<LanguageRow>,
    /// The equipment; none where it is not known.
    equipment: Option<Vec<EquipmentNames>>,
    /// Whether a store that is not among these may be there all the same.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    more_stores: bool,
}

/// What a store holds.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct StoreNames {
    holds: Vec<Kind>,
    /// Whether it tells facts alone, and proves nobody.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    facts_only: bool,
    /// What it cannot check.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    cannot_check: Vec<Unchecked>,
}

/// Something that clients send.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Unchecked {
    Passwords,
    Mschap,
    Challenges,
}

impl StoreNames {
    fn of(store: &dyn Store) -> Self {
        let can = store.capabilities();
        let cannot = [
            (can.passwords, Unchecked::Passwords),
            (can.mschap, Unchecked::Mschap),
            (can.recoverable_passwords, Unchecked::Challenges),
        ];
        Self {
            holds: can.kinds.iter().copied().map(Kind).collect(),
            facts_only: can.facts_only,
            cannot_check: cannot.into_iter().filter(|(can, _)| !can).map(|(_, what)| what).collect(),
        }
    }

    fn checks(&self) -> Checks {
        let can = |what| !self.cannot_check.contains(&what);
        Checks {
            passwords: can(Unchecked::Passwords),
            mschap: can(Unchecked::Mschap),
            challenges: can(Unchecked::Challenges),
        }
    }
}

#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct GroupsOfKind {
    names: BTreeSet<String>,
    /// Those that several groups have, in small letters.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    twice: BTreeSet<String>,
    /// How many seconds ago a directory was looked at.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    looked: Option<u64>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct EquipmentNames {
    name: String,
    kind: NasKind,
    site: String,
    dialect: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    tags: Vec<String>,
    /// Where it has one alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    address: Option<IpAddr>,
}

/// A kind of identity, written as in policies: `user`, `machine` or `mac`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "&'static str")]
struct Kind(IdentityKind);

impl TryFrom<String> for Kind {
    type Error = String;

    fn try_from(word: String) -> Result<Self, String> {
        let known = IdentityKind::ALL.into_iter().find(|(known, _)| *known == word);
        known.map(|(_, kind)| Self(kind)).ok_or_else(|| format!("`{word}` is no kind of identity"))
    }
}

impl From<Kind> for &'static str {
    fn from(Kind(kind): Kind) -> Self {
        kind.word()
    }
}

impl Surroundings {
    /// What a service has.
    pub(crate) fn of_records(
        languages: &Languages,
        stores: &StoreRegistry,
        records: &impl Reading,
    ) -> Result<Self, RecordsError> {
        let kept = records.all::<CommonNameRow>()?.into_iter().filter(|row| row.kind == CommonNameKind::Group);
        let kept: Vec<_> = kept.map(|row| row.name).collect();
        let kinds = IdentityKind::ALL.into_iter().map(|(_, kind)| kind);
        let groups = kinds.filter_map(|kind| Some((Kind(kind), groups(stores, kind, &kept)?)));
        let names = |(name, store): (&String, &Arc<dyn Store>)| (name.clone(), StoreNames::of(&**store));
        let certificates = records.all::<CertificateRow>()?.into_iter().filter(|row| !row.chain.is_empty());
        Ok(Self {
            stores: Some(stores.iter().map(names).collect()),
            groups: groups.collect(),
            certificates: Some(certificates.map(|row| row.name).collect()),
            trusts: Some(records.all::<TrustRow>()?.into_iter().map(|row| row.name).collect()),
            secrets: Some(records.all::<SecretRow>()?.into_iter().map(|row| row.name).collect()),
            languages: languages.own.clone(),
            equipment: Some(records.all::<NasRow>()?.iter().map(EquipmentNames::of).collect()),
            more_stores: false,
        })
    }

    /// A hash of all of it, but for how long ago directories were looked at.
    pub(crate) fn hash(&self) -> [u8; 32] {
        let mut lasting = self.clone();
        lasting.groups.values_mut().for_each(|groups| groups.looked = None);
        Sha256::digest(serde_json::to_vec(&lasting).expect("names are JSON")).into()
    }

    /// What an inventory file says. Directories and other services are connected elsewhere, and so are
    /// certificates made: of them any name passes.
    pub fn of_inventory(inventory: &Inventory) -> Self {
        let holds = |kind: StoreKind| match kind {
            StoreKind::Devices => vec![Kind(IdentityKind::Mac)],
            _ => vec![Kind(IdentityKind::User), Kind(IdentityKind::Machine)],
        };
        let stores = inventory.store.iter();
        let stores = stores.map(|one| {
            (one.name.clone(), StoreNames { holds: holds(one.kind), facts_only: false, cannot_check: Vec::new() })
        });
        let own: Vec<_> = inventory.group.iter().map(|group| group.name.clone()).collect();
        let all = |groups: Vec<&Vec<String>>| {
            let names = groups.into_iter().flatten().chain(&own).cloned().collect();
            GroupsOfKind { names, ..GroupsOfKind::default() }
        };
        let groups = [
            (IdentityKind::User, all(inventory.person.iter().map(|one| &one.groups).collect())),
            (IdentityKind::Machine, all(inventory.machine.iter().map(|one| &one.groups).collect())),
            (IdentityKind::Mac, all(inventory.device.iter().map(|one| &one.groups).collect())),
        ];
        let equipment = inventory.nas.iter().map(|nas| EquipmentNames {
            name: nas.name.clone(),
            kind: nas.kind,
            site: nas.site.clone(),
            dialect: nas.dialect.clone(),
            tags: nas.tags.clone(),
            address: match nas.address.all() {
                [one] => one.parse().ok(),
                _ => None,
            },
        });
        Self {
            stores: Some(stores.collect()),
            groups: groups.map(|(kind, groups)| (Kind(kind), groups)).into(),
            equipment: Some(equipment.collect()),
            more_stores: true,
            ..Self::default()
        }
    }

    /// The same with files of how equipment speaks, where they go together.
    pub fn with_languages(mut self, rows: Vec<LanguageRow>) -> Self {
        self.languages.extend(rows);
        self
    }

    /// The facts, and the names that policies may use.
    pub(crate) fn schema(&self, languages: &Languages) -> Schema {
        let mut schema = languages.vocabulary.schema().clone();
        if let Some(stores) = &self.stores {
            schema = schema.with_stores(stores.iter().flat_map(|(name, store)| {
                let known = |kind: &Kind| KnownStore {
                    name: name.clone(),
                    holds: kind.0,
                    facts_only: store.facts_only,
                    checks: store.checks(),
                };
                store.holds.iter().map(known).collect::<Vec<_>>()
            }));
        }
        if let Some(secrets) = &self.secrets {
            schema = schema.with_secrets(secrets.iter().cloned());
        }
        if let (Some(certificates), Some(trusts)) = (&self.certificates, &self.trusts) {
            schema = schema.with_certificates(certificates.iter().cloned(), trusts.iter().cloned());
        }
        if self.more_stores {
            schema = schema.with_more_stores();
        }
        let of_equipment = |of: fn(&EquipmentNames) -> Vec<String>| {
            let all: BTreeSet<String> = self.equipment.iter().flatten().flat_map(of).collect();
            all.into_iter().collect::<Vec<_>>()
        };
        schema = schema
            .with_values("nas.name", of_equipment(|nas| vec![nas.name.clone()]))
            .with_values("nas.site", of_equipment(|nas| vec![nas.site.clone()]))
            .with_values("nas.tags", of_equipment(|nas| nas.tags.clone()));
        for (kind, groups) in &self.groups {
            let (names, twice) = (groups.names.iter().cloned().collect(), groups.twice.iter().cloned().collect());
            schema = schema.with_groups(kind.0, KnownGroups { names, twice, looked: groups.looked });
        }
        schema
    }

    /// The stores that hold a kind of identity and prove it.
    pub fn stores_of(&self, kind: IdentityKind) -> Vec<String> {
        let holds = |store: &StoreNames| !store.facts_only && store.holds.contains(&Kind(kind));
        self.stores.iter().flatten().filter(|(_, store)| holds(store)).map(|(name, _)| name.clone()).collect()
    }

    /// The groups of a kind of identity, where all are known.
    pub fn groups_of(&self, kind: IdentityKind) -> Vec<String> {
        let known = self.groups.get(&Kind(kind));
        known.into_iter().flat_map(|groups| groups.names.iter().cloned()).collect()
    }

    /// The sites of the equipment.
    pub fn sites(&self) -> Vec<String> {
        let all: BTreeSet<_> = self.equipment.iter().flatten().map(|nas| nas.site.clone()).collect();
        all.into_iter().filter(|site| !site.is_empty()).collect()
    }

    /// The certificates that can be presented.
    pub fn certificates(&self) -> &[String] {
        self.certificates.as_deref().unwrap_or_default()
    }

    /// The equipment, each with its address where it has one alone.
    pub(crate) fn equipment(&self) -> impl Iterator<Item = (NasIdentity, Option<IpAddr>)> {
        self.equipment.iter().flatten().map(|nas| (nas.identity(), nas.address))
    }

    /// The facts, and the names that policies may use, for whoever writes one.
    pub fn facts_and_names(&self) -> Result<Schema, LanguageError> {
        Ok(self.schema(&Languages::new(self.languages.clone(), LanguageRow::file)?))
    }

    /// Checks a policy against these, without any service. Where equipment is not known, what a dialect that
    /// ships cannot say is a warning; equipment of a dialect that is not known is left out.
    pub fn check(&self, source: Source) -> Result<CheckReport, LanguageError> {
        let languages = Languages::new(self.languages.clone(), LanguageRow::file)?;
        let schema = self.schema(&languages);
        let checked = match &self.equipment {
            Some(_) => {
                let known: BTreeSet<_> = languages.dialects.iter().map(|dialect| dialect.name.clone()).collect();
                let equipment = self.equipment().filter(|(nas, _)| known.contains(&nas.dialect));
                languages.edition_for(source, &schema, equipment).map(|edition| CheckReport::fit(&edition))
            }
            None => languages.edition(0, source, &schema).map_err(Unfit::Check).and_then(|edition| {
                let all = languages.dialects.iter().flat_map(|dialect| edition.problems_in(&dialect.name));
                // What no RFC can say some other dialect may; what contradicts itself is wrong as it is.
                let (doubts, errors): (Vec<_>, Vec<_>) = all.partition(GrantProblem::is_of_dialect);
                match errors.is_empty() {
                    true => Ok(CheckReport::fit(&edition).with_doubts(&doubts, edition.policy.source())),
                    false => {
                        let errors = errors.into_iter().map(|error| (error, Vec::new())).collect();
                        Err(Unfit::Grants(Box::new(edition), errors))
                    }
                }
            }),
        };
        Ok(checked.unwrap_or_else(CheckReport::unfit))
    }
}

/// The groups of a kind, where every store that holds it tells all that it has; `kept` are those that people
/// wrote down.
fn groups(stores: &StoreRegistry, kind: IdentityKind, kept: &[String]) -> Option<GroupsOfKind> {
    let telling = stores.values().filter(|store| store.capabilities().kinds.contains(&kind));
    let told = telling.filter(|store| store.capabilities().groups).map(|store| store.group_names(kind));
    let told = told.collect::<Option<Vec<_>>>().filter(|told| told.iter().all(|one| one.whole))?;
    let mut known = GroupsOfKind { names: kept.iter().cloned().collect(), ..GroupsOfKind::default() };
    for one in told {
        known.names.extend(one.names);
        known.twice.extend(one.twice);
        known.looked = known.looked.max(one.looked);
    }
    Some(known)
}

impl EquipmentNames {
    fn of(row: &NasRow) -> Self {
        Self {
            name: row.name.clone(),
            kind: row.kind,
            site: row.site.clone(),
            dialect: row.dialect.clone(),
            tags: row.tags.clone(),
            address: row.single_address(),
        }
    }

    fn identity(&self) -> NasIdentity {
        NasIdentity {
            name: self.name.clone(),
            kind: self.kind,
            site: self.site.clone(),
            dialect: self.dialect.clone(),
            tags: self.tags.iter().cloned().map(Value::owned).collect(),
        }
    }
}
