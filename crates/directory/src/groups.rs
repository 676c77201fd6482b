//! Which groups an entry is in, and which groups those are in.

use std::borrow::Cow;
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

/// The groups of an entry: each by its distinguished name, and by its short name where it is below
/// the base of groups.
pub(crate) async fn of(entry: &Entry, settings: &DirectorySettings, servers: &Servers) -> Result<Groups, Trouble> {
    let groups = entries(entry, settings, servers).await?;
    let names = groups.iter().flat_map(|group| short_name(group, settings).into_iter().chain([group.name.clone()]));
    Ok(names.map(Value::owned).collect())
}

/// The short names of an entry's groups.
pub(crate) async fn short(
    entry: &Entry,
    settings: &DirectorySettings,
    servers: &Servers,
) -> Result<Vec<String>, Trouble> {
    let groups = entries(entry, settings, servers).await?;
    Ok(groups.iter().filter_map(|group| short_name(group, settings)).collect())
}

/// The groups of an entry.
async fn entries(entry: &Entry, settings: &DirectorySettings, servers: &Servers) -> Result<Vec<Entry>, Trouble> {
    let mut known = Known::new();
    let mut next = match settings.groups {
        GroupsBy::TokenGroups => return of_token(entry, settings, servers).await,
        GroupsBy::MemberOf => read(&member_of(entry, servers).await?, settings, servers).await?,
        GroupsBy::Search => with_member(std::slice::from_ref(entry), settings, servers).await?,
    };
    for _ in 0..DEEPEST {
        next.retain(|group| !known.contains_key(&plain(&group.name)));
        known.extend(next.iter().map(|group| (plain(&group.name), group.clone())));
        if known.len() > MOST {
            return Err(Trouble::TooManyGroups(MOST));
        }
        if next.is_empty() || !settings.nested {
            break;
        }
        next = match settings.groups {
            GroupsBy::MemberOf => {
                let above: Vec<_> = next.iter().flat_map(|group| group.all("memberOf")).cloned().collect();
                read(&above, settings, servers).await?
            }
            GroupsBy::Search | GroupsBy::TokenGroups => with_member(&next, settings, servers).await?,
        };
    }
    Ok(known.into_values().collect())
}

/// What an entry says that it is a member of. A directory gives long attributes in parts, each of which is
/// asked for by its range.
async fn member_of<'e>(entry: &'e Entry, servers: &Servers) -> Result<Cow<'e, [String]>, Trouble> {
    let Some((first, mut next)) = entry.part("memberOf") else { return Ok(entry.all("memberOf").into()) };
    let mut all = first.to_vec();
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
        let found = servers.search(&question).await?.into_iter().next().unwrap_or_default();
        // The same part once more, or one without values, would never end.
        let (part, after) = found.part("memberOf").unwrap_or_default();
        all.extend_from_slice(part);
        next = after.filter(|after| *after > from);
    }
    Ok(all.into())
}

/// The short name of a group, where it is below the base of groups.
fn short_name(group: &Entry, settings: &DirectorySettings) -> Option<String> {
    let below = is_below(&group.name, settings.group_base());
    group.first(&settings.group_name).filter(|_| below).map(str::to_owned)
}

/// Groups of these names. One that is gone, or that nobody may read, is known by its name alone.
async fn read(names: &[String], settings: &DirectorySettings, servers: &Servers) -> Result<Vec<Entry>, Trouble> {
    if names.len() > MOST {
        return Err(Trouble::TooManyGroups(MOST));
    }
    let mut groups = Vec::new();
    for some in names.chunks(AT_ONCE) {
        let asked = some.iter().cloned().map(|name| read_one(name, settings, servers));
        groups.extend(try_join_all(asked).await?);
    }
    Ok(groups)
}

async fn read_one(name: String, settings: &DirectorySettings, servers: &Servers) -> Result<Entry, Trouble> {
    let question = Question {
        base: name.clone(),
        scope: Scope::Base,
        filter: "(objectClass=*)".into(),
        attributes: wanted(settings),
        most: 1,
    };
    match servers.search(&question).await {
        Ok(found) => Ok(found.into_iter().next().unwrap_or_else(|| Entry::nameless(name))),
        Err(Trouble::NoBase(_) | Trouble::Refused { .. } | Trouble::Referral(_)) => Ok(Entry::nameless(name)),
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
async fn with_member(
    members: &[Entry],
    settings: &DirectorySettings,
    servers: &Servers,
) -> Result<Vec<Entry>, Trouble> {
    let mut groups = Vec::new();
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
        groups.extend(servers.search(&question).await?);
        if groups.len() > MOST {
            return Err(Trouble::TooManyGroups(MOST));
        }
    }
    Ok(groups)
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
        ];
        let names = groups.map(|group| short_name(&group, &settings));
        assert_eq!(names, [Some("staff".into()), None]);
    }
}
