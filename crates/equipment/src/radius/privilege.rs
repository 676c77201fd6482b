//! What of a policy's grants makes somebody an administrator of equipment, whatever make it is.

use regnant_policy::{Statement, StatementValue};
use regnant_radius::Definition;

use crate::edition::Edition;

/// A statement that makes somebody an administrator of equipment, or may.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Privilege {
    /// The grant.
    pub grant: String,
    /// What it says, in words.
    pub says: String,
    /// How sure that is.
    pub doubt: Doubt,
}

/// How sure it is that something makes an administrator of equipment.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Doubt {
    /// Policy or dictionary say so.
    None,
    /// It reads so.
    ByItsWords,
    /// No dictionary says whether it does; where equipment is administered it may.
    Unsaid,
}

/// Words in names and values of attributes that speak of administering.
const WORDS: [&str; 9] = ["priv", "admin", "root", "super", "level", "lvl", "shell", "enable", "exec"];

impl Edition {
    /// What of a combination of grants makes an administrator of equipment, in some dialect; of what is as sure
    /// as anything, the first.
    pub fn privilege(&self, grants: usize) -> Option<&Privilege> {
        let all = || (0..self.policy.grant_sets()).map(|grants| self.judge_all(grants)).collect();
        self.privileges.get_or_init(all).get(grants)?.as_ref()
    }

    fn judge_all(&self, grants: usize) -> Option<Privilege> {
        let stated = self.policy.stated(grants);
        let doubts = stated.filter_map(|(grant, statement, varies)| {
            let (doubt, says) = self.judge(&statement, varies)?;
            Some(Privilege { grant: grant.name.clone(), says, doubt })
        });
        doubts.min_by_key(|privilege| privilege.doubt)
    }

    fn judge(&self, statement: &Statement, varies: bool) -> Option<(Doubt, String)> {
        let keyword = statement.kind.keyword;
        // What lets traffic through says nothing of administering.
        if !matches!(keyword, "service" | "privilege" | "role" | "class" | "filter" | "send") {
            return None;
        }
        if is_privileged(statement, varies) {
            return Some((Doubt::None, statement.say()));
        }
        let told = self.told_of(statement, varies);
        let doubts = told.filter_map(|(dialect, attribute, value)| {
            let doubt = doubt_of(keyword, &attribute, value.as_deref())?;
            let value = value.unwrap_or_else(|| "what a fact says".into());
            Some((doubt, format!("{} {value} (dialect {dialect})", attribute.name)))
        });
        // Dialects have no order.
        doubts.min()
    }
}

/// By what the policy says, whoever is told.
fn is_privileged(statement: &Statement, varies: bool) -> bool {
    match (statement.kind.keyword, statement.value()) {
        ("service" | "privilege", _) if varies => true,
        ("service", Some(value)) => value.to_string() == "administrative",
        ("privilege", Some(StatementValue::Number(level))) => *level > 1,
        ("privilege", _) => true,
        _ => false,
    }
}

fn doubt_of(keyword: &str, attribute: &Definition, value: Option<&str>) -> Option<Doubt> {
    if let Some(privileged) = attribute.makes_administrator(value) {
        return privileged.then_some(Doubt::None);
    }
    // What these say was judged by the policy's words.
    if matches!(keyword, "service" | "privilege") {
        return None;
    }
    let speaks = |text: &str| WORDS.iter().any(|word| text.to_lowercase().contains(word));
    if speaks(&attribute.name) || value.is_some_and(speaks) {
        return Some(Doubt::ByItsWords);
    }
    // Of the RFCs', this is what equipment takes roles from. Class it must not read (RFC 2865 section 5.25).
    let of_vendor = attribute.id.vendor().is_some();
    (of_vendor || attribute.name == "Filter-Id").then_some(Doubt::Unsaid)
}
