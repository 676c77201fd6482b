//! Facts that stores add about whoever is proved or asks. Nobody is proved by them.

use regnant_base::Mac;
use regnant_policy::{Event, Gate, IdentityKind, Key, Known, Lookup, Members, Reaction, Value, group_of_store};

use crate::decide::Means;
use crate::facts::attribute::KnownAttributes;
use crate::facts::request_facts::{Identity, RequestFacts};
use crate::lookup::{Asked, LookUp, LookUpAnswer};
use crate::proof::Stop;
use crate::stores::{Account, Device, Found, Groups, NoAnswer, Store};

/// What was added about each kind of identity.
#[derive(Clone, Debug, Default)]
pub struct Added {
    /// About the user.
    pub user: AddedFacts,
    /// About the machine.
    pub machine: AddedFacts,
    /// About the device.
    pub device: AddedFacts,
}

/// What was added about one.
#[derive(Clone, Debug, Default)]
pub struct AddedFacts {
    /// Groups, each once.
    pub groups: Vec<Value<'static>>,
    /// Groups with the store that told each, as `GROUP of STORE`.
    pub groups_by_store: Vec<Value<'static>>,
    /// Attributes in the order of their names.
    pub attributes: Vec<(Box<str>, Value<'static>)>,
    /// Whether a store that would know more did not answer.
    pub silent: bool,
    /// Whether a store told groups in part.
    pub in_part: bool,
}

/// The groups that the store of an identity has it in.
#[derive(Clone, Copy)]
pub(crate) struct OwnGroups<'g> {
    groups: &'g [Value<'static>],
    in_part: bool,
}

impl<'g> OwnGroups<'g> {
    pub(crate) const NONE: Self = Self { groups: &[], in_part: false };

    pub(crate) fn of(account: &'g Account) -> Self {
        Self { groups: &account.groups, in_part: account.groups_in_part }
    }

    pub(crate) fn of_device(device: &'g Device) -> Self {
        Self { groups: &device.groups, in_part: device.groups_in_part }
    }
}

impl Added {
    /// What was added about a kind.
    pub fn of(&self, kind: IdentityKind) -> &AddedFacts {
        match kind {
            IdentityKind::User => &self.user,
            IdentityKind::Machine => &self.machine,
            IdentityKind::Mac => &self.device,
        }
    }

    fn of_mut(&mut self, kind: IdentityKind) -> &mut AddedFacts {
        match kind {
            IdentityKind::User => &mut self.user,
            IdentityKind::Machine => &mut self.machine,
            IdentityKind::Mac => &mut self.device,
        }
    }
}

impl AddedFacts {
    /// The groups of an identity, its own and those that were added.
    pub(crate) fn groups<'f>(&'f self, own: OwnGroups<'f>) -> Known<Value<'f>> {
        let all = match self.groups.is_empty() {
            true => Value::Set(Members::Borrowed(own.groups)),
            false => Value::set(own.groups.iter().chain(&self.groups).cloned().collect()),
        };
        if self.in_part(own) { Known::Partial(all) } else { Known::Is(all) }
    }

    /// The groups of an identity that a store has, each with its store; absent where all are of that store.
    pub(crate) fn groups_by_store<'f>(&'f self, (store, own): (&str, OwnGroups<'f>)) -> Known<Value<'f>> {
        if self.groups_by_store.is_empty() && !self.in_part(own) {
            return Known::Absent;
        }
        let groups = own.groups.iter().filter_map(|group| by_store(group, store));
        let all = Value::set(groups.chain(self.groups_by_store.iter().cloned()).collect());
        if self.in_part(own) { Known::Partial(all) } else { Known::Is(all) }
    }

    fn in_part(&self, own: OwnGroups<'_>) -> bool {
        self.silent || self.in_part || own.in_part
    }

    /// What was told first counts.
    fn take(&mut self, store: &str, (groups, in_part): &(Groups, bool), attributes: &KnownAttributes) {
        self.in_part |= in_part;
        self.groups_by_store.extend(groups.iter().filter_map(|group| by_store(group, store)));
        let new: Vec<_> = groups.iter().filter(|group| !self.groups.contains(group)).cloned().collect();
        self.groups.extend(new);
        for (name, value) in attributes.iter() {
            if let Err(place) = self.attributes.binary_search_by(|(known, _)| known.cmp(name)) {
                self.attributes.insert(place, (name.clone(), value.clone()));
            }
        }
    }
}

fn by_store(group: &Value<'_>, store: &str) -> Option<Value<'static>> {
    match group {
        Value::Text(group) => Some(Value::owned(group_of_store(group, store))),
        _ => None,
    }
}

/// Asks every store that the gate has facts looked up in, once everybody is proved.
pub(crate) async fn add_facts(
    request_facts: &mut RequestFacts<'_>,
    gate: &Gate,
    means: Means<'_>,
    log: &mut Vec<LookUp>,
) -> Result<(), Stop> {
    for clause in &gate.lookups {
        let key = match subject(request_facts, clause) {
            Subject::Nobody => {
                let why = match clause.kind {
                    IdentityKind::Mac => LookUpAnswer::NoDevice,
                    _ => LookUpAnswer::NobodyProved,
                };
                not_asked(clause, why, means, log);
                continue;
            }
            Subject::Unanswered => Key::Unanswered,
            Subject::Is(name) if !clause.has_key() => Key::Is(name),
            Subject::Is(_) => clause.key(request_facts),
        };
        let silent = match key {
            Key::Is(name) => ask(request_facts, clause, &name, means, log).await,
            Key::None => {
                note(log, clause.kind, Asked::NoStore, "", LookUpAnswer::NoNameBy);
                None
            }
            Key::Unanswered => {
                not_asked(clause, LookUpAnswer::KeyUnanswered, means, log);
                Some(Event::Unreachable)
            }
        };
        if let Some(event) = silent {
            request_facts.known.added.of_mut(clause.kind).silent = true;
            match (event, clause.unreachable()) {
                (Event::NoRoom, _) => return Err(Stop { kind: clause.kind, event, reaction: Reaction::Silence }),
                (_, Reaction::Continue | Reaction::UseStale(_) | Reaction::Next) => {}
                (_, reaction) => return Err(Stop { kind: clause.kind, event, reaction: reaction.clone() }),
            }
        }
    }
    Ok(())
}

/// Whom a clause is about.
enum Subject {
    Is(String),
    /// Nobody of the kind is proved.
    Nobody,
    /// A store that would know whether somebody is did not answer.
    Unanswered,
}

fn subject(facts: &RequestFacts<'_>, clause: &Lookup) -> Subject {
    match (clause.kind, facts.identity(clause.kind)) {
        (IdentityKind::Mac, _) => facts.request.mac.map_or(Subject::Nobody, |mac| Subject::Is(mac.to_string())),
        (_, Identity::Proved(proved)) => Subject::Is(proved.account.name.clone()),
        (_, Identity::NotProved { event: Event::Unreachable, .. }) => Subject::Unanswered,
        (_, Identity::NotProved { .. } | Identity::Absent) => Subject::Nobody,
    }
}

/// Asks one store after the other until one has the name; tells why one that might have it did not say. What a
/// later one tells of the name is not what that one would have told, so none is asked behind it.
async fn ask(
    facts: &mut RequestFacts<'_>,
    clause: &Lookup,
    name: &str,
    means: Means<'_>,
    log: &mut Vec<LookUp>,
) -> Option<Event> {
    let asker = facts.request.nas.name.clone();
    for id in &clause.stores {
        let place = Asked::Store(means.stores.name(*id));
        let told = match means.stores.get(*id) {
            Ok(store) => one(store, clause, name, &asker, means).await,
            Err(gone) => Told::Silent(gone.event(), gone.told()),
        };
        match told {
            Told::Facts(groups, attributes, answer) => {
                note(log, clause.kind, place, name, answer);
                facts.known.added.of_mut(clause.kind).take(&means.stores.name(*id), &groups, &attributes);
                return None;
            }
            Told::Nothing(answer) => note(log, clause.kind, place, name, answer),
            Told::Silent(event, answer) => {
                note(log, clause.kind, place, name, answer);
                return Some(event);
            }
        }
    }
    None
}

enum Told {
    /// Groups, and whether they are told in part.
    Facts((Groups, bool), KnownAttributes, LookUpAnswer),
    Nothing(LookUpAnswer),
    Silent(Event, LookUpAnswer),
}

async fn one(store: &dyn Store, clause: &Lookup, name: &str, asker: &str, means: Means<'_>) -> Told {
    if clause.kind == IdentityKind::Mac && !store.capabilities().facts_only {
        let Ok(mac) = name.parse::<Mac>() else { return Told::Nothing(LookUpAnswer::NotListed) };
        return match means.within(store, store.device(mac, asker)).await {
            Ok(Some(device)) => {
                let groups = (device.groups.clone(), device.groups_in_part);
                Told::Facts(groups, device.attributes.clone(), told(device.groups_in_part))
            }
            Ok(None) => Told::Nothing(LookUpAnswer::NotListed),
            Err(none) => Told::Silent(none.event(), none.told()),
        };
    }
    if !clause.has_key() && !store.answers_for(clause.kind, name) {
        return Told::Nothing(LookUpAnswer::OtherRealm);
    }
    match means.within(store, store.account(clause.kind, name, asker)).await {
        Ok(Found::Account(account)) => {
            let groups = (account.groups, account.groups_in_part);
            Told::Facts(groups, account.attributes, told(account.groups_in_part))
        }
        Ok(Found::Nobody) => Told::Nothing(LookUpAnswer::Unknown),
        // What holds of one may not hold of the other, and nobody said which is meant.
        Ok(Found::Several) => Told::Silent(Event::Unreachable, LookUpAnswer::Several),
        Err(none) => {
            let stale = match (&none, clause.unreachable()) {
                (NoAnswer::Silent(_), Reaction::UseStale(most)) => store.stale_account(clause.kind, name, *most),
                _ => None,
            };
            match stale {
                Some((account, age)) => {
                    let groups = (account.groups, account.groups_in_part);
                    Told::Facts(groups, account.attributes, LookUpAnswer::ToldEarlier(age))
                }
                None => Told::Silent(none.event(), none.told()),
            }
        }
    }
}

fn told(in_part: bool) -> LookUpAnswer {
    if in_part { LookUpAnswer::ToldInPart } else { LookUpAnswer::Told }
}

fn not_asked(clause: &Lookup, why: LookUpAnswer, means: Means<'_>, log: &mut Vec<LookUp>) {
    if let Some(id) = clause.stores.first() {
        note(log, clause.kind, Asked::Store(means.stores.name(*id)), "", why);
    }
}

fn note(log: &mut Vec<LookUp>, kind: IdentityKind, asked: Asked, name: &str, answer: LookUpAnswer) {
    log.push(LookUp { kind, asked, name: name.to_owned(), answer, held: None });
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;

    fn names(known: Known<Value<'_>>) -> (bool, usize) {
        match known {
            Known::Is(Value::Set(set)) => (true, set.len()),
            Known::Partial(Value::Set(set)) => (false, set.len()),
            _ => panic!("no set"),
        }
    }

    #[test]
    fn what_was_told_first_counts_and_a_silent_store_leaves_the_rest_open() {
        let groups = |names: &[&'static str]| -> (Groups, bool) {
            (names.iter().map(|name| Value::owned(*name)).collect(), false)
        };
        let attributes = |level: i64| -> KnownAttributes { Arc::new([("level".into(), Value::Integer(level))]) };
        let own = [Value::owned("own")];
        let mut added = AddedFacts::default();
        assert_eq!(
            added.groups_by_store(("harbour", OwnGroups { groups: &own, in_part: false })),
            Known::Absent,
            "all are of one store"
        );
        added.take("register", &groups(&["staff", "crew"]), &attributes(1));
        added.take("directory", &groups(&["staff"]), &attributes(2));
        assert_eq!(added.attributes, [("level".into(), Value::Integer(1))]);
        let own = OwnGroups { groups: &own, in_part: false };
        assert_eq!(names(added.groups(own)), (true, 3));
        assert_eq!(names(added.groups(OwnGroups { in_part: true, ..own })), (false, 3), "its own are told in part");
        let by_store = ["own of harbour", "staff of register", "crew of register", "staff of directory"];
        let by_store = Value::set(by_store.map(Value::owned).into());
        assert_eq!(added.groups_by_store(("harbour", own)), Known::Is(by_store.clone()));
        added.silent = true;
        assert_eq!(names(added.groups(own)), (false, 3));
        assert_eq!(added.groups_by_store(("harbour", own)), Known::Partial(by_store));
    }
}
