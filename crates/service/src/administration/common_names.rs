//! Groups and sites: names that records have in common, and what people should know of each.
//! Renaming one changes all of them, in one transaction, and says before what follows.

use std::collections::BTreeMap;

use regnant_base::Mac;
use regnant_records::{
    Author, Command, CommonNameEntry, CommonNameKind, CommonNameRow, DeviceFilter, Keep, Reading, RecordName,
    RecordsError, Rows,
};

use crate::administration::identities::Identities;
use crate::administration::{AdministrationError, RecordVersion, named};

/// Records of one command.
const AT_ONCE: usize = 2_000;

/// A group or a site, by who has it and who asks for it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct CommonName {
    /// What is kept of it; where nothing is, its name without a note.
    pub(crate) row: CommonNameRow,
    /// Whether something is kept of it, so that it stays where nobody has it.
    pub(crate) is_kept: bool,
    /// How many records have it.
    pub(crate) had_by: Counts,
    /// Where the active policy names it.
    pub(crate) named_by: Vec<String>,
}

/// How many records.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Counts {
    pub(crate) nases: u64,
    pub(crate) people: u64,
    pub(crate) machines: u64,
    pub(crate) devices: u64,
}

/// What is to be done with a name that records have in common.
pub(crate) struct Rename<'r> {
    pub(crate) kind: CommonNameKind,
    pub(crate) from: &'r str,
    /// The new name; none where everybody leaves it.
    pub(crate) to: Option<&'r str>,
    /// What people should know from now on; what they know already where none.
    pub(crate) note: Option<&'r str>,
    /// Whether whoever is in it is ordinary from now on; as it was where none.
    pub(crate) ordinary: Option<bool>,
    /// What its author saw.
    pub(crate) seen: Option<&'r RecordVersion>,
    /// Whether it is done although the active policy names it, something has the new name
    /// already, or equipment stands there.
    pub(crate) anyway: bool,
}

impl Rename<'_> {
    /// The groups of a record, as they shall be; none where it has not this one.
    fn on(&self, groups: &[String]) -> Option<Vec<String>> {
        groups.iter().find(|group| same(group, self.from))?;
        let mut after: Vec<String> = Vec::new();
        for group in groups {
            let name = if same(group, self.from) { self.to } else { Some(group.as_str()) };
            if let Some(name) = name.filter(|name| !after.iter().any(|known| same(known, name))) {
                after.push(name.to_owned());
            }
        }
        Some(after)
    }

    /// Whether what is known of names lets it be done.
    fn check(&self, known: &[CommonName]) -> Result<(), AdministrationError> {
        let (what, name) = (self.kind.word(), self.from.to_owned());
        if self.to.is_some_and(|to| to.trim().is_empty() || to.len() > 253 || to.chars().any(char::is_control)) {
            return Err(AdministrationError::CommonName(what));
        }
        let this = known.iter().find(|known| same(&known.row.name, self.from));
        let this = this.ok_or_else(|| AdministrationError::NoCommonName { what, name: name.clone() })?;
        if self.seen.is_some_and(|seen| *seen != RecordVersion::of(&this.row)) {
            return Err(AdministrationError::Changed(name));
        }
        // Another spelling is no other name.
        if self.anyway || self.to.is_some_and(|to| same(to, self.from)) {
            return Ok(());
        }
        if !this.named_by.is_empty() {
            let by = format!("the active policy names it ({})", this.named_by.join("; "));
            return Err(AdministrationError::CommonNameInUse { what, name, by });
        }
        match self.to {
            None if this.had_by.nases > 0 => Err(AdministrationError::SiteHeld { name, nases: this.had_by.nases }),
            Some(to) if known.iter().any(|known| same(&known.row.name, to)) => {
                Err(AdministrationError::CommonNameTaken { what, name: to.to_owned() })
            }
            _ => Ok(()),
        }
    }

    /// What changes in what is kept of names: which were, and how they are.
    fn kept(&self, known: &[CommonName]) -> Result<(Vec<RecordName>, Rows), AdministrationError> {
        let find = |name: &str| known.iter().find(|known| known.is_kept && same(&known.row.name, name));
        let name = |known: &CommonName| RecordName::CommonName { kind: self.kind, name: known.row.name.clone() };
        let this = find(self.from);
        // Of two that become one the note of the one that was there stays.
        let other = self.to.filter(|to| !same(to, self.from)).and_then(find);
        let was = this.into_iter().chain(other).map(name).collect();
        let before = other.or(this).map(|known| &known.row);
        let says = before.is_some() || self.note.is_some() || self.ordinary.is_some();
        let common_names = match self.to.filter(|_| says) {
            Some(to) => {
                let note = self.note.or(before.map(|row| row.note.as_str())).unwrap_or_default().to_owned();
                let ordinary = self.ordinary.unwrap_or(before.is_some_and(|row| row.ordinary));
                vec![CommonNameEntry { name: to.to_owned(), note, ordinary }.row(self.kind)?]
            }
            None => Vec::new(),
        };
        Ok((was, Rows { common_names, ..Rows::default() }))
    }
}

fn same(one: &str, other: &str) -> bool {
    one.to_lowercase() == other.to_lowercase()
}

impl Identities {
    /// Every group or site that records have, that the active policy names, or that something is
    /// kept of.
    pub(crate) fn common_names(&self, kind: CommonNameKind) -> Result<Vec<CommonName>, AdministrationError> {
        let mut all: BTreeMap<String, CommonName> = BTreeMap::new();
        let new =
            |row: CommonNameRow| CommonName { row, is_kept: false, had_by: Counts::default(), named_by: Vec::new() };
        for row in self.committer.records.all::<CommonNameRow>()?.into_iter().filter(|row| row.kind == kind) {
            all.insert(row.name.to_lowercase(), CommonName { is_kept: true, ..new(row) });
        }
        let mut of = |name: &str, change: &mut dyn FnMut(&mut CommonName)| {
            let row = || CommonNameRow { kind, name: name.to_owned(), note: String::new(), ordinary: false };
            change(all.entry(name.to_lowercase()).or_insert_with(|| new(row())));
        };
        let snapshot = self.committer.snapshot.load_full();
        let edition = &snapshot.active.edition;
        let named = match kind {
            CommonNameKind::Group => {
                let (people, machines) = (self.people()?, self.machines()?);
                people.iter().flat_map(|row| &row.groups).for_each(|name| of(name, &mut |one| one.had_by.people += 1));
                let machines = machines.iter().flat_map(|row| &row.groups);
                machines.for_each(|name| of(name, &mut |one| one.had_by.machines += 1));
                for (name, count) in snapshot.stores.device_groups() {
                    of(&name, &mut |one| one.had_by.devices += count);
                }
                named::groups(edition)
            }
            CommonNameKind::Site => {
                for row in self.nases()?.iter().filter(|row| !row.site.is_empty()) {
                    of(&row.site, &mut |one| one.had_by.nases += 1);
                }
                named::sites(edition)
            }
        };
        for (name, place) in named {
            of(&name, &mut |one| one.named_by.push(place.clone()));
        }
        Ok(all.into_values().collect())
    }

    /// A group or a site.
    pub(crate) fn common_name(&self, kind: CommonNameKind, name: &str) -> Result<CommonName, AdministrationError> {
        let found = self.common_names(kind)?.into_iter().find(|known| same(&known.row.name, name));
        found.ok_or_else(|| AdministrationError::NoCommonName { what: kind.word(), name: name.to_owned() })
    }

    /// Keeps something of a group or a site of which nothing was kept.
    pub(crate) fn add_common_name(
        &self,
        kind: CommonNameKind,
        entry: CommonNameEntry,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let rows = Rows { common_names: vec![entry.row(kind)?], ..Rows::default() };
        self.committer.turn().commit(by, Command::Add(rows)).map(drop)
    }

    /// Says what people should know of a group or a site, whether something was kept of it or not. What is not
    /// said stays.
    pub(crate) fn put_common_name(
        &self,
        name: RecordName,
        (note, ordinary): (Option<String>, Option<bool>),
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let RecordName::CommonName { kind, name: spelled } = &name else {
            return Err(AdministrationError::NotFound(name));
        };
        let turn = self.committer.turn();
        let before = self.committer.records.find(&name)?.common_names.pop();
        let entry = CommonNameEntry {
            name: spelled.clone(),
            note: note.or(before.as_ref().map(|row| row.note.clone())).unwrap_or_default(),
            ordinary: ordinary.or(before.as_ref().map(|row| row.ordinary)).unwrap_or_default(),
        };
        let row = entry.row(*kind)?;
        if let Some(seen) = seen {
            let known = self.common_name(*kind, &row.name)?;
            if *seen != RecordVersion::of(&known.row) {
                return Err(AdministrationError::Changed(row.name));
            }
        }
        let was = before.map(|_| name).into_iter().collect();
        let rows = Rows { common_names: vec![row], ..Rows::default() };
        turn.commit(by, Command::Change { was, rows }).map(drop)
    }

    /// Gives a group or a site another name, or takes it from everything that has it; gives how
    /// much that was.
    pub(crate) fn rename(&self, rename: &Rename<'_>, by: &Author) -> Result<Counts, AdministrationError> {
        let turn = self.committer.turn();
        let known = self.common_names(rename.kind)?;
        rename.check(&known)?;
        let (was, kept) = rename.kept(&known)?;
        let keeps = !was.is_empty() || kept.names().next().is_some();
        let counts = match rename.kind {
            CommonNameKind::Site => {
                let mut nases: Vec<_> = self.nases()?.into_iter().filter(|row| same(&row.site, rename.from)).collect();
                nases.iter_mut().for_each(|row| row.site = rename.to.unwrap_or_default().to_owned());
                let counts = Counts { nases: nases.len() as u64, ..Counts::default() };
                let mut rows = Rows { nases, ..Rows::default() };
                let was = rows.names().chain(was.iter().cloned()).collect::<Vec<_>>();
                rows.extend(kept);
                if !was.is_empty() || rows.names().next().is_some() {
                    turn.commit(by, Command::Change { was, rows })?;
                }
                counts
            }
            CommonNameKind::Group => turn.commit_several(|several| {
                let mut put = |was: Vec<RecordName>, rows: Rows| {
                    if was.is_empty() && rows.names().next().is_none() {
                        return Ok::<_, AdministrationError>(());
                    }
                    several.apply(by, Command::Change { was, rows })?.map_err(RecordsError::from)?;
                    Ok(())
                };
                put(was.clone(), kept.clone())?;
                Ok((self.regroup_all(rename, &mut put)?, Keep::All))
            })?,
        };
        match counts == Counts::default() && !keeps {
            true => Err(AdministrationError::NoCommonName { what: rename.kind.word(), name: rename.from.to_owned() }),
            false => Ok(counts),
        }
    }

    /// Everybody and everything in a group, as it shall be.
    fn regroup_all(
        &self,
        rename: &Rename<'_>,
        put: &mut impl FnMut(Vec<RecordName>, Rows) -> Result<(), AdministrationError>,
    ) -> Result<Counts, AdministrationError> {
        let mut rows = Rows::default();
        for mut row in self.people()? {
            if let Some(groups) = rename.on(&row.groups) {
                row.groups = groups;
                rows.people.push(row);
            }
        }
        for mut row in self.machines()? {
            if let Some(groups) = rename.on(&row.groups) {
                row.groups = groups;
                rows.machines.push(row);
            }
        }
        let (people, machines) = (rows.people.len() as u64, rows.machines.len() as u64);
        let mut counts = Counts { people, machines, ..Counts::default() };
        put(rows.names().collect(), rows)?;
        let mut after: Option<(String, Mac)> = None;
        loop {
            let group = Some(rename.from.to_owned());
            let filter = DeviceFilter { group, after: after.take(), limit: AT_ONCE, ..DeviceFilter::default() };
            let mut devices = self.devices(&filter)?;
            let Some(last) = devices.last() else { return Ok(counts) };
            after = Some((last.store.clone(), last.first));
            for row in &mut devices {
                row.groups = rename.on(&row.groups).unwrap_or_else(|| row.groups.clone());
            }
            counts.devices += devices.len() as u64;
            let rows = Rows { devices, ..Rows::default() };
            put(rows.names().collect(), rows)?;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_group_is_renamed_where_it_stands_and_never_had_twice() {
        let on = |from: &str, to: Option<&str>, groups: &[&str]| {
            let groups: Vec<_> = groups.iter().map(|group| (*group).to_owned()).collect();
            Rename { kind: CommonNameKind::Group, from, to, note: None, ordinary: None, seen: None, anyway: false }
                .on(&groups)
        };
        assert_eq!(on("Crew", Some("hands"), &["staff", "crew"]), Some(vec!["staff".into(), "hands".into()]));
        assert_eq!(on("crew", Some("staff"), &["STAFF", "crew"]), Some(vec!["STAFF".into()]));
        assert_eq!(on("crew", None, &["crew"]), Some(Vec::new()));
        assert_eq!(on("crew", Some("hands"), &["staff"]), None);
    }
}
