//! Which groups an entry is in, and which groups those are in.

use std::collections::{BTreeMap, VecDeque};

use futures_util::future::try_join_all;
use ldap3::Scope;
use regnant_decision::Groups;
use regnant_policy::Value;

use crate::answers::Trouble;
use crate::connection::Question;
use crate::entry::Entry;
use crate::names::{is_below, octets, plain, value};
use crate::servers::Servers;
use crate::settings::{DirectorySettings, GroupsBy};

/// Groups of one account.
pub(crate) const MOST: usize = 1_000;
/// How deep groups are in groups.
const DEEPEST: usize = 16;
/// Groups that are asked for at once.
const AT_ONCE: usize = 50;

/// Groups by their names as they are compared.
type Known = BTreeMap<String, Entry>;

/// The groups of an entry, as far as they were told: one of which its directory could not say what it is, or what
/// it is in, may stand for any.
#[derive(Default)]
pub(crate) struct Told {
    groups: Vec<Entry>,
    /// Whether some are missing.
    pub(crate) in_part: bool,
}

impl Told {
    /// Each by its distinguished name, and by its short name where it is below the base of groups.
    pub(crate) fn names(&self, settings: &DirectorySettings) -> Groups {
        let groups = self.groups.iter();
        let names = groups.flat_map(|group| short_name(group, settings).into_iter().chain([group.name.clone()]));
        names.map(Value::owned).collect()
    }

    /// The short names.
    pub(crate) fn short(&self, settings: &DirectorySettings) -> Vec<String> {
        self.groups.iter().filter_map(|group| short_name(group, settings)).collect()
    }
}

/// The groups of an entry.
pub(crate) async fn of(entry: &Entry, settings: &DirectorySettings, servers: &Servers) -> Result<Told, Trouble> {
    let mut known = Known::new();
    let mut next = match settings.groups {
        GroupsBy::TokenGroups => {
            let groups = of_token(entry, settings, servers).await?;
            return Ok(Told { groups, in_part: false });
        }
        GroupsBy::MemberOf => member_of(entry, settings, servers).await?,
        GroupsBy::Search => with_member(std::slice::from_ref(entry), settings, servers).await?,
    };
    let mut in_part = next.in_part;
    for depth in 0.. {
        next.groups.retain(|group| !known.contains_key(&plain(&group.name)));
        if next.groups.is_empty() {
            break;
        }
        // What is deeper is somebody's, too.
        if depth == DEEPEST {
            in_part = true;
            break;
        }
        known.extend(next.groups.iter().map(|group| (plain(&group.name), group.clone())));
        if known.len() > MOST {
            return Err(Trouble::TooManyGroups(MOST));
        }
        if !settings.nested {
            break;
        }
        next = match settings.groups {
            GroupsBy::MemberOf => {
                let above: Vec<_> = next.groups.iter().flat_map(|group| group.all("memberOf")).cloned().collect();
                read(&above, settings, servers).await?
            }
            GroupsBy::Search | GroupsBy::TokenGroups => with_member(&next.groups, settings, servers).await?,
        };
        in_part |= next.in_part;
    }
    Ok(Told { groups: known.into_values().collect(), in_part })
}

/// The groups that an entry says that it is a member of. A directory gives long attributes in parts, each of which
/// is asked for by its range.
async fn member_of(entry: &Entry, settings: &DirectorySettings, servers: &Servers) -> Result<Told, Trouble> {
    let Some((first, mut next)) = entry.part("memberOf") else {
        return read(entry.all("memberOf"), settings, servers).await;
    };
    let (mut all, mut in_part) = (first.to_vec(), false);
    while let Some(from) = next {
        if all.len() > MOST {
            return Err(Trouble::TooManyGroups(MOST));
        }
        let question = Question {
            base: entry.name.clone(),
            scope: Scope::Base,
            filter: "(objectClass=*)".into(),
            attributes: vec![format!("memberOf;range={from}-*")],
            most: 1,
        };
        let found = match servers.search(&question).await {
            Err(Trouble::Unable { .. }) => Vec::new(),
            found => found?,
        };
        let found = found.into_iter().next().unwrap_or_default();
        let part = found.part("memberOf");
        let (values, after) = part.unwrap_or_default();
        all.extend_from_slice(values);
        // The same part once more, or one without values, would never end; and the rest stays untold.
        let goes_on = after.is_some_and(|after| after > from);
        in_part |= part.is_none() || after.is_some() && !goes_on;
        next = after.filter(|_| goes_on);
    }
    let mut told = read(&all, settings, servers).await?;
    told.in_part |= in_part;
    Ok(told)
}

/// The short name of a group, where it is below the base of groups.
fn short_name(group: &Entry, settings: &DirectorySettings) -> Option<String> {
    let below = is_below(&group.name, settings.group_base());
    // One that reads like the name of an entry would be taken for that.
    group.first(&settings.group_name).filter(|name| below && !name.contains('=')).map(str::to_owned)
}

/// Groups of these names. One that is gone, or that nobody may read, is known by its name alone.
async fn read(names: &[String], settings: &DirectorySettings, servers: &Servers) -> Result<Told, Trouble> {
    if names.len() > MOST {
        return Err(Trouble::TooManyGroups(MOST));
    }
    let mut told = Told::default();
    for some in names.chunks(AT_ONCE) {
        let asked = some.iter().cloned().map(|name| read_one(name, settings, servers));
        for (group, whole) in try_join_all(asked).await? {
            told.groups.push(group);
            told.in_part |= !whole;
        }
    }
    Ok(told)
}

/// One, and whether all of it was told.
async fn read_one(name: String, settings: &DirectorySettings, servers: &Servers) -> Result<(Entry, bool), Trouble> {
    let question = Question {
        base: name.clone(),
        scope: Scope::Base,
        filter: "(objectClass=*)".into(),
        attributes: wanted(settings),
        most: 1,
    };
    match servers.search(&question).await {
        Ok(found) => Ok((found.into_iter().next().unwrap_or_else(|| Entry::nameless(name)), true)),
        Err(Trouble::NoBase(_) | Trouble::Refused { .. } | Trouble::Referral(_)) => Ok((Entry::nameless(name), true)),
        // No server of it could say.
        Err(Trouble::Unable { .. }) => Ok((Entry::nameless(name), false)),
        Err(trouble) => Err(trouble),
    }
}

/// The groups whose security identifiers a directory counts an entry's by. The attribute is made
/// when it is asked for, of one entry at a time.
async fn of_token(entry: &Entry, settings: &DirectorySettings, servers: &Servers) -> Result<Vec<Entry>, Trouble> {
    let question = Question {
        base: entry.name.clone(),
        scope: Scope::Base,
        filter: "(objectClass=*)".into(),
        attributes: vec!["tokenGroups".into()],
        most: 1,
    };
    let token = servers.search(&question).await?;
    let identifiers: Vec<_> = token.iter().flat_map(|entry| entry.all_bytes("tokenGroups")).collect();
    if identifiers.len() > MOST {
        return Err(Trouble::TooManyGroups(MOST));
    }
    let mut groups = Vec::new();
    for some in identifiers.chunks(AT_ONCE) {
        let any: String = some.iter().map(|identifier| format!("(objectSid={})", octets(identifier))).collect();
        let question = Question {
            base: settings.base.clone(),
            scope: Scope::Subtree,
            filter: format!("(|{any})"),
            attributes: wanted(settings),
            most: some.len() + 1,
        };
        groups.extend(servers.search(&question).await?);
    }
    Ok(groups)
}

/// Groups that have one of these as member.
async fn with_member(members: &[Entry], settings: &DirectorySettings, servers: &Servers) -> Result<Told, Trouble> {
    let (mut groups, mut in_part) = (Vec::new(), false);
    let mut left: VecDeque<_> = members.iter().collect();
    while !left.is_empty() {
        let some: Vec<_> = left.drain(..left.len().min(AT_ONCE)).collect();
        let by_entry = some.iter().map(|member| {
            let name = value(&member.name);
            format!("(member={name})(uniqueMember={name})")
        });
        let by_name =
            some.iter().filter_map(|member| member.first("uid")).map(|name| format!("(memberUid={})", value(name)));
        let question = Question {
            base: settings.group_base().to_owned(),
            scope: Scope::Subtree,
            filter: format!("(|{})", by_entry.chain(by_name).collect::<String>()),
            attributes: wanted(settings),
            most: MOST + 1,
        };
        match servers.search(&question).await {
            // It is known by then that there are such members; of which groups nobody could say.
            Err(Trouble::Unable { .. }) => in_part = true,
            found => groups.extend(found?),
        }
        if groups.len() > MOST {
            return Err(Trouble::TooManyGroups(MOST));
        }
    }
    Ok(Told { groups, in_part })
}

fn wanted(settings: &DirectorySettings) -> Vec<String> {
    vec![settings.group_name.clone(), "memberOf".into()]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_short_name_counts_only_below_the_base_of_groups() {
        let settings =
            DirectorySettings { group_base: Some("ou=groups,dc=example".into()), ..DirectorySettings::default() };
        let groups = [
            Entry::of("cn=staff,ou=groups,dc=example", &[("cn", &["staff"])]),
            Entry::of("cn=admins,ou=elsewhere,dc=example", &[("cn", &["admins"])]),
            Entry::of("cn=x,ou=groups,dc=example", &[("cn", &["cn=admins,ou=groups,dc=example"])]),
        ];
        let names = groups.map(|group| short_name(&group, &settings));
        assert_eq!(names, [Some("staff".into()), None, None], "and never where it reads like an entry's name");
    }
}
