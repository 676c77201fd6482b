//! Cases that are judged against the records as they are: `expect now`. Whoever they name is looked up as the
//! gate says.

use std::time::Duration;

use regnant_decision::{Found, KnownAttributes, Store, StoreRegistry, StoreReply};
use regnant_equipment::Edition;
use regnant_policy::{CaseResult, Event, Gate, IdentityKind, Known, Mac, Schema, StatedFacts, Value};
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
            for (kind, whose) in [(IdentityKind::User, "user"), (IdentityKind::Machine, "machine")] {
                facts.look_up(kind, whose, &named(gate, kind, policy.stores(), stores));
            }
            facts.look_up_device(&named(gate, IdentityKind::Mac, policy.stores(), stores));
        }
        policy.judge_now(number, &facts.stated)
    });
    judged.collect()
}

type Named<'s> = Vec<(&'s str, &'s dyn Store)>;

/// The stores in which a gate looks for a kind of identity.
fn named<'s>(gate: &Gate, kind: IdentityKind, names: &'s [String], stores: &'s StoreRegistry) -> Named<'s> {
    let ids = gate.identify(kind).map_or(&[][..], |clause| &clause.stores);
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

    fn look_up(&mut self, kind: IdentityKind, whose: &str, stores: &Named<'_>) {
        let Some(Value::Text(name)) = self.read(&format!("{whose}.name")).map(Value::into_owned) else { return };
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
                        Some(event) => self.state(&format!("{whose}.failure"), Known::Is(Value::owned(event.word()))),
                        None => {
                            let groups = Value::set(account.groups.to_vec());
                            self.state(&format!("{whose}.groups"), Known::Is(groups));
                            self.state(&format!("{whose}.store"), Known::Is(Value::owned(*store)));
                            self.attributes(whose, &account.attributes);
                        }
                    }
                    return;
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
    }

    fn look_up_device(&mut self, stores: &Named<'_>) {
        let mac = |value: Option<Value<'_>>| match value {
            Some(Value::Mac(mac)) => Some(mac),
            _ => None,
        };
        let found: Option<Mac> = mac(self.read("device.mac")).or_else(|| mac(self.read("request.mac")));
        let Some(mac) = found.filter(|_| !stores.is_empty()) else { return };
        self.state("device.mac", Known::Is(Value::Mac(mac)));
        let mut silent = false;
        for (_, store) in stores {
            match answer(store.device(mac, ASKER), self.until) {
                None => silent = true,
                Some(None) => {}
                Some(Some(device)) => {
                    self.state("device.known", Known::Is(Value::Boolean(!device.expired)));
                    self.state("device.barred", Known::Is(Value::Boolean(device.barred)));
                    self.state("device.groups", Known::Is(Value::set(device.groups.to_vec())));
                    self.attributes("device", &device.attributes);
                    return;
                }
            }
        }
        let unlisted =
            [("known", Value::Boolean(false)), ("barred", Value::Boolean(false)), ("groups", Value::set(vec![]))];
        for (part, value) in unlisted {
            let value = if silent { Known::Unanswered } else { Known::Is(value) };
            self.state(&format!("device.{part}"), value);
        }
    }
}
