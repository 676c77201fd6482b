//! Groups of one store alone.

use crate::run::{Facts, Known};
use crate::schema::FactId;
use crate::value::Value;

/// The groups of an identity that one store has.
#[derive(Clone, Debug)]
pub(crate) struct OfStore {
    /// All of its groups, and the store that has its account.
    pub(crate) groups: FactId,
    pub(crate) account: FactId,
    /// Its groups with the store that has each, where several have some.
    pub(crate) by_store: FactId,
    pub(crate) store: String,
}

/// A group and the store that has it, as the fact `groups-by-store` has them.
pub fn group_of_store(group: &str, store: &str) -> String {
    format!("{group} of {store}")
}

impl OfStore {
    pub(crate) fn value<'f>(&self, facts: &'f dyn Facts) -> Known<Value<'f>> {
        let of_it = |all: Value<'_>| match all {
            Value::Set(members) => Value::set(members.iter().filter_map(|member| self.group(member)).collect()),
            _ => Value::set(Vec::new()),
        };
        match facts.fact(self.by_store) {
            Known::Is(all) => Known::Is(of_it(all)),
            Known::Partial(part) => Known::Partial(of_it(part)),
            Known::Unanswered => Known::Unanswered,
            // All are of the store that has the account.
            Known::Absent => match facts.fact(self.account) {
                Known::Is(Value::Text(name)) if name.eq_ignore_ascii_case(&self.store) => facts.fact(self.groups),
                Known::Is(_) => Known::Is(Value::set(Vec::new())),
                Known::Absent => Known::Absent,
                Known::Unanswered | Known::Partial(_) => Known::Unanswered,
            },
        }
    }

    /// The group of a member, where it is of this store.
    fn group(&self, member: &Value<'_>) -> Option<Value<'static>> {
        let Value::Text(text) = member else { return None };
        let (group, store) = text.rsplit_once(" of ")?;
        store.eq_ignore_ascii_case(&self.store).then(|| Value::owned(group.to_owned()))
    }
}
