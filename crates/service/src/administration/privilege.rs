//! Whom the policy could make an administrator of equipment: their passwords are not the
//! helpdesk's to set.

use regnant_equipment::Edition;
use regnant_policy::{Compiled, Consequence, FactId, Facts, Known, Members, Statement, StatementValue, Value};
use regnant_records::PersonRow;

/// Somebody of whom the name, store and groups are known, and nothing else.
struct Somebody<'p> {
    name: (Option<FactId>, &'p str),
    store: (Option<FactId>, &'p str),
    groups: (Option<FactId>, Vec<Value<'p>>),
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
            return Known::Is(Value::Set(Members::Borrowed(&self.groups.1)));
        }
        // Whatever else a request says could make a rule true.
        Known::Unanswered
    }
}

/// What could make a person an administrator of equipment, in words: a rule that grants
/// `service administrative` or a privilege above 1 and is not false of them whatever else is
/// true. None where nothing could.
pub(crate) fn reach(edition: &Edition, person: &PersonRow) -> Option<String> {
    let (policy, schema) = (&edition.policy, edition.vocabulary.schema());
    let somebody = Somebody {
        name: (schema.find("user.name"), &person.name),
        store: (schema.find("user.store"), &person.store),
        groups: (schema.find("user.groups"), person.groups.iter().map(|group| Value::Text(group.into())).collect()),
    };
    policy.gates().iter().find_map(|gate| {
        if gives_privilege(policy, &gate.otherwise) {
            return Some(format!("the `otherwise` of gate `{}`", gate.name));
        }
        let rule = policy.possible_rules(gate, &somebody).find(|rule| gives_privilege(policy, &rule.then))?;
        Some(format!("rule `{}` of gate `{}`", rule.title, gate.name))
    })
}

fn gives_privilege(policy: &Compiled, consequence: &Consequence) -> bool {
    let Consequence::Grant(set) = consequence else { return false };
    policy.varies(*set) && policy.longest_statements(*set).iter().any(names_privilege)
        || policy.longest_statements(*set).iter().any(is_privilege)
}

/// A statement that is about privilege, whose value a fact gives.
fn names_privilege(statement: &Statement) -> bool {
    let attribute = statement.attribute.as_deref().unwrap_or_default();
    matches!(statement.kind.keyword, "service" | "privilege") || is_of_privilege(attribute)
}

fn is_privilege(statement: &Statement) -> bool {
    let value = statement.values.iter().find(|(word, _)| word.is_empty()).map(|(_, value)| value);
    let above_one = match value {
        Some(StatementValue::Number(number)) => *number > 1,
        Some(StatementValue::Text(text)) => text.parse::<i64>().map_or(true, |number| number > 1),
        _ => true,
    };
    match (statement.kind.keyword, statement.attribute.as_deref()) {
        ("service", _) => value.is_some_and(|value| value.to_string().eq_ignore_ascii_case("administrative")),
        ("privilege", _) => above_one,
        // RFC 2865 section 5.6 and RFC 5607 section 6.4, sent by themselves.
        (_, Some("Service-Type")) => {
            value.is_some_and(|value| matches!(value.to_string().to_lowercase().as_str(), "6" | "administrative"))
        }
        (_, Some(attribute)) => is_of_privilege(attribute) && above_one,
        _ => false,
    }
}

/// By its name, of whatever vendor.
fn is_of_privilege(attribute: &str) -> bool {
    let name = attribute.to_lowercase();
    name.contains("priv") || name.contains("admin")
}
