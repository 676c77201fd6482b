//! Whom the policy could make an administrator of equipment: their passwords are not the
//! helpdesk's to set. In doubt they are not, until an engineer says that somebody is ordinary.

use regnant_decision::Purpose;
use regnant_equipment::{Doubt, Edition, Privilege};
use regnant_policy::{FactId, Facts, Gate, Known, Members, Value};
use regnant_records::PersonRow;

/// Somebody of whom the name, store and groups are known, who wants one thing, and nothing else is known.
struct Somebody<'p> {
    name: (Option<FactId>, &'p str),
    store: (Option<FactId>, &'p str),
    groups: (Option<FactId>, Vec<Value<'p>>),
    /// None where nothing says what is wanted, which may be a login.
    purpose: (Option<FactId>, Option<Purpose>),
    /// Whether what is looked up may put them into more groups.
    in_part: bool,
}

impl<'p> Somebody<'p> {
    fn new(edition: &Edition, person: &'p PersonRow, purpose: Option<Purpose>) -> Self {
        let schema = edition.vocabulary.schema();
        Self {
            name: (schema.find("user.name"), &person.name),
            store: (schema.find("user.store"), &person.store),
            groups: (schema.find("user.groups"), person.groups.iter().map(|group| Value::Text(group.into())).collect()),
            purpose: (schema.find("request.purpose"), purpose),
            in_part: false,
        }
    }

    /// The same where what a gate looks up may add groups.
    fn at(self, gate: &Gate) -> Self {
        Self { in_part: !gate.lookups.is_empty(), ..self }
    }

    /// Somebody else of the same store, in no group.
    fn stranger(self) -> Self {
        Self { name: (self.name.0, ""), groups: (self.groups.0, Vec::new()), ..self }
    }
}

impl Facts for Somebody<'_> {
    fn fact(&self, id: FactId) -> Known<Value<'_>> {
        if self.name.0 == Some(id) {
            return Known::Is(Value::Text(self.name.1.into()));
        }
        if self.store.0 == Some(id) {
            return Known::Is(Value::Text(self.store.1.into()));
        }
        if self.groups.0 == Some(id) {
            let groups = Value::Set(Members::Borrowed(&self.groups.1));
            return if self.in_part { Known::Partial(groups) } else { Known::Is(groups) };
        }
        if self.purpose.0 == Some(id) {
            return self.purpose.1.map(|purpose| Value::Integer(purpose as i64)).into();
        }
        // Whatever else a request says could make a rule true.
        Known::Unanswered
    }
}

/// What could make a person an administrator of equipment.
pub(crate) struct Reach {
    /// Rule, grant and what it says, in words.
    pub(crate) why: String,
    /// Whether the rule asks for their name or groups, so that it is about them and not about whoever comes so.
    pub(crate) is_theirs: bool,
}

/// What could make a person an administrator of equipment: whatever some gate may give them that
/// says so, or that no dictionary says it does not. What is theirs goes before what is anybody's.
pub(crate) fn reach(edition: &Edition, person: &PersonRow) -> Option<Reach> {
    let all = || Purpose::ALL.into_iter().map(|(_, purpose)| Some(purpose)).chain([None]);
    let of_gates = edition.policy.gates().iter().enumerate();
    let mut found =
        of_gates.flat_map(|(place, gate)| all().filter_map(move |purpose| at(edition, (place, gate), person, purpose)));
    let first = found.next()?;
    if first.is_theirs {
        return Some(first);
    }
    Some(found.find(|reach| reach.is_theirs).unwrap_or(first))
}

/// The same at one gate, of whoever wants one thing.
fn at(edition: &Edition, (place, gate): (usize, &Gate), person: &PersonRow, purpose: Option<Purpose>) -> Option<Reach> {
    let policy = &edition.policy;
    let somebody = Somebody::new(edition, person, purpose).at(gate);
    if !policy.may_take(place, &somebody) {
        return None;
    }
    let stranger = Somebody::new(edition, person, purpose).stranger();
    let privilege = |grants: Option<usize>| {
        let privilege = edition.privilege(grants?)?;
        // Into a network nobody is let in as an administrator by what nobody speaks of.
        let may_be_login = matches!(purpose, None | Some(Purpose::Login));
        (privilege.doubt < Doubt::Unsaid || may_be_login).then_some(privilege)
    };
    let told = |what: String, privilege: &Privilege, is_theirs: bool| {
        let doubt = match privilege.doubt {
            Doubt::None => "",
            Doubt::ByItsWords => "; it reads like a privilege",
            Doubt::Unsaid => "; no dictionary says that it is no privilege",
        };
        let why = format!("{what} gives grant `{}` ({}{doubt})", privilege.grant, privilege.says);
        Reach { why, is_theirs }
    };
    let mut anybodys = None;
    for rule in gate.rules.iter().filter(|rule| policy.may_decide(rule, &somebody)) {
        let Some(privilege) = privilege(rule.then.grants()) else { continue };
        let of_stranger = policy.may_decide(rule, &stranger);
        let reach = told(format!("rule `{}` of gate `{}`", rule.title, gate.name), privilege, !of_stranger);
        if !of_stranger {
            return Some(reach);
        }
        anybodys = anybodys.or(Some(reach));
    }
    let otherwise = || {
        let privilege = privilege(gate.otherwise.grants())?;
        Some(told(format!("the `otherwise` of gate `{}`", gate.name), privilege, false))
    };
    let observe = || {
        let privilege = privilege(policy.may_observe(place, &somebody))?;
        let is_theirs = policy.may_observe(place, &stranger).is_none();
        Some(told(format!("the `observe` of gate `{}`", gate.name), privilege, is_theirs))
    };
    // What is theirs goes before.
    observe().filter(|reach| reach.is_theirs).or(anybodys).or_else(otherwise).or_else(observe)
}
