//! Cases that are judged against the records as they are: `expect now`. Whoever they name is looked up as the
//! gate says.

use std::time::Duration;

use regnant_base::Mac;
use regnant_decision::{Found, KnownAttributes, Store, StoreRegistry, StoreReply};
use regnant_equipment::Edition;
use regnant_policy::{
    CaseResult, Event, Gate, IdentityKind, Key, Known, Lookup, Schema, StatedFacts, StoreId, Value, group_of_store,
};
use tokio::runtime::Handle;
use tokio::time::{Instant, timeout_at};

/// How long stores are waited for, all together: whoever activates a policy keeps others from changing
/// records meanwhile.
const LIMIT: Duration = Duration::from_secs(5);
/// On whose behalf stores are asked.
const ASKER: &str = "the cases of a policy";

/// Judges them.
pub(crate) fn judge(edition: &Edition, stores: &StoreRegistry) -> Vec<CaseResult> {
    let until = Instant::now() + LIMIT;
    let (policy, schema) = (&edition.policy, edition.vocabulary.schema());
    let judged = policy.now_cases().map(|(number, given)| {
        let mut facts = Facts { schema, stated: given.clone(), until };
        if let Some(gate) = policy.choose_gate(&facts.stated) {
            let gate = &policy.gates()[gate];
            let stores_of = |ids: &[StoreId]| named(ids, policy.stores(), stores);
            for (kind, whose) in [(IdentityKind::User, "user"), (IdentityKind::Machine, "machine")] {
                if let Some(mut groups) = facts.look_up(kind, whose, &stores_of(identified(gate, kind))) {
                    facts.add(kind, whose, gate, &mut groups, stores_of);
                }
            }
            if let Some(mut groups) = facts.look_up_device(&stores_of(identified(gate, IdentityKind::Mac))) {
                facts.add(IdentityKind::Mac, "device", gate, &mut groups, stores_of);
            }
        }
        policy.judge_now(number, &facts.stated)
    });
    judged.collect()
}

type Named<'s> = Vec<(&'s str, &'s dyn Store)>;

/// The groups of somebody, with the store that has each.
#[derive(Default)]
struct GroupsFound {
    all: Vec<Value<'static>>,
    by_store: Vec<Value<'static>>,
}

impl GroupsFound {
    fn take(&mut self, store: &str, groups: &[Value<'static>]) {
        for group in groups {
            if let Value::Text(name) = group {
                self.by_store.push(Value::owned(group_of_store(name, store)));
            }
            if !self.all.contains(group) {
                self.all.push(group.clone());
            }
        }
    }
}

/// The stores in which a gate looks for a kind of identity.
fn identified(gate: &Gate, kind: IdentityKind) -> &[StoreId] {
    gate.identify(kind).map_or(&[][..], |clause| &clause.stores)
}

fn named<'s>(ids: &[StoreId], names: &'s [String], stores: &'s StoreRegistry) -> Named<'s> {
    ids.iter().filter_map(|id| Some((names[id.place()].as_str(), &**stores.get(&names[id.place()])?))).collect()
}

/// What a store says; none where it does not.
fn answer<T>(reply: StoreReply<'_, T>, until: Instant) -> Option<T> {
    match reply {
        StoreReply::Now(answer) => answer.ok(),
        StoreReply::Later(coming) => Handle::try_current().ok()?.block_on(timeout_at(until, coming)).ok()?.ok(),
    }
}

struct Facts<'s> {
    schema: &'s Schema,
    stated: StatedFacts,
    until: Instant,
}

impl Facts<'_> {
    fn read(&self, name: &str) -> Option<Value<'_>> {
        match self.stated.stated(self.schema.find(name)?)? {
            Known::Is(value) => Some(value),
            _ => None,
        }
    }

    /// States a fact, where the case does not itself.
    fn state(&mut self, name: &str, value: Known<Value<'static>>) {
        if let Some(id) = self.schema.find(name) {
            self.stated.state(id, value);
        }
    }

    fn attributes(&mut self, whose: &str, attributes: &KnownAttributes) {
        for (name, value) in attributes.iter() {
            self.state(&format!("{whose}.{name}"), Known::Is(value.clone()));
        }
    }

    /// Looks somebody up whom the case names; their groups, where a store has them.
    fn look_up(&mut self, kind: IdentityKind, whose: &str, stores: &Named<'_>) -> Option<GroupsFound> {
        let Some(Value::Text(name)) = self.read(&format!("{whose}.name")).map(Value::into_owned) else { return None };
        let mut silent = false;
        for (store, asked) in stores {
            match answer(asked.account(kind, &name, ASKER), self.until) {
                None => silent = true,
                Some(Found::Account(account)) => {
                    let event = match (account.disabled, account.expired) {
                        (true, _) => Some(Event::Disabled),
                        (_, true) => Some(Event::Expired),
                        _ => None,
                    };
                    self.state(&format!("{whose}.proved"), Known::Is(Value::Boolean(event.is_none())));
                    match event {
                        Some(event) => {
                            self.state(&format!("{whose}.failure"), Known::Is(Value::owned(event.word())));
                            return None;
                        }
                        None => {
                            self.state(&format!("{whose}.store"), Known::Is(Value::owned(*store)));
                            self.attributes(whose, &account.attributes);
                            let mut groups = GroupsFound::default();
                            groups.take(store, &account.groups);
                            return Some(groups);
                        }
                    }
                }
                Some(_) => {}
            }
        }
        for part in ["proved", "groups"] {
            let value = match (silent, part) {
                (true, _) => Known::Unanswered,
                (false, "proved") => Known::Is(Value::Boolean(false)),
                _ => Known::Absent,
            };
            self.state(&format!("{whose}.{part}"), value);
        }
        None
    }

    /// What the gate's `lookup` clauses add.
    fn add<'s>(
        &mut self,
        kind: IdentityKind,
        whose: &str,
        gate: &Gate,
        groups: &mut GroupsFound,
        stores_of: impl Fn(&[StoreId]) -> Named<'s>,
    ) {
        let name = if kind == IdentityKind::Mac { "mac" } else { "name" };
        let (mut silent, before) = (false, groups.by_store.len());
        for clause in gate.lookups.iter().filter(|clause| clause.kind == kind) {
            let key = match clause.has_key() {
                true => clause.key(&self.stated),
                false => match self.read(&format!("{whose}.{name}")) {
                    Some(Value::Text(name)) => Key::Is(name.into_owned()),
                    Some(Value::Mac(mac)) => Key::Is(mac.to_string()),
                    _ => Key::None,
                },
            };
            silent |= match key {
                Key::Is(name) => self.ask(clause, whose, &name, groups, &stores_of(&clause.stores)),
                Key::None => false,
                Key::Unanswered => true,
            };
        }
        let known = |values: Vec<Value<'static>>| {
            let values = Value::set(values);
            if silent { Known::Partial(values) } else { Known::Is(values) }
        };
        self.state(&format!("{whose}.groups"), known(std::mem::take(&mut groups.all)));
        if silent || groups.by_store.len() > before {
            self.state(&format!("{whose}.groups-by-store"), known(std::mem::take(&mut groups.by_store)));
        }
    }

    /// Asks one store after the other until one has the name; tells whether one that might have it did not say.
    fn ask(&mut self, clause: &Lookup, whose: &str, name: &str, groups: &mut GroupsFound, stores: &Named<'_>) -> bool {
        let mut silent = false;
        for (store, asked) in stores {
            let found = match (clause.kind, asked.capabilities().facts_only) {
                (IdentityKind::Mac, false) => name.parse().ok().map_or(Some(None), |mac| {
                    let device = answer(asked.device(mac, ASKER), self.until)?;
                    Some(device.map(|device| (device.groups.clone(), device.attributes.clone())))
                }),
                _ => match answer(asked.account(clause.kind, name, ASKER), self.until) {
                    Some(Found::Account(account)) => Some(Some((account.groups, account.attributes))),
                    Some(Found::Nobody) => Some(None),
                    Some(Found::Several) | None => None,
                },
            };
            match found {
                Some(Some((told, attributes))) => {
                    groups.take(store, &told);
                    self.attributes(whose, &attributes);
                    return false;
                }
                Some(None) => {}
                None => silent = true,
            }
        }
        silent
    }

    /// Looks the device up; its groups, where it is known whether a store lists it.
    fn look_up_device(&mut self, stores: &Named<'_>) -> Option<GroupsFound> {
        let mac = |value: Option<Value<'_>>| match value {
            Some(Value::Mac(mac)) => Some(mac),
            _ => None,
        };
        let found: Option<Mac> = mac(self.read("device.mac")).or_else(|| mac(self.read("request.mac")));
        let mac = found.filter(|_| !stores.is_empty())?;
        self.state("device.mac", Known::Is(Value::Mac(mac)));
        let mut silent = false;
        for (name, store) in stores {
            match answer(store.device(mac, ASKER), self.until) {
                None => silent = true,
                Some(None) => {}
                Some(Some(device)) => {
                    self.state("device.known", Known::Is(Value::Boolean(!device.expired)));
                    self.state("device.barred", Known::Is(Value::Boolean(device.barred)));
                    self.state("device.store", Known::Is(Value::owned(*name)));
                    self.attributes("device", &device.attributes);
                    let mut groups = GroupsFound::default();
                    groups.take(name, &device.groups);
                    return Some(groups);
                }
            }
        }
        for part in ["known", "barred"] {
            let value = if silent { Known::Unanswered } else { Known::Is(Value::Boolean(false)) };
            self.state(&format!("device.{part}"), value);
        }
        if silent {
            self.state("device.groups", Known::Unanswered);
            return None;
        }
        Some(GroupsFound::default())
    }
}
