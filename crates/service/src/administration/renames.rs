//! Groups and sites: names that records have in common. Renaming one changes all of them, in one
//! transaction, and says before what follows.

use std::collections::BTreeMap;

use regnant_policy::Mac;
use regnant_records::{Author, Command, DeviceFilter, Envelope, Keep, LocalStores, Rows};

use crate::administration::identities::Identities;
use crate::administration::{AdministrationError, named};
use crate::clock::now_ms;

/// Records of one command.
const AT_ONCE: usize = 2_000;

/// Where NASes stand.
#[derive(Clone, Debug, Default)]
pub(crate) struct Site {
    pub(crate) name: String,
    /// How many NASes stand there.
    pub(crate) nases: u64,
    /// Where the active policy names it.
    pub(crate) named_by: Vec<String>,
}

/// What was changed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Renamed {
    pub(crate) nases: u64,
    pub(crate) people: u64,
    pub(crate) machines: u64,
    pub(crate) devices: u64,
}

/// What is to be done with a name that records have in common.
pub(crate) struct Rename<'r> {
    pub(crate) from: &'r str,
    /// The new name; none where everybody leaves it.
    pub(crate) to: Option<&'r str>,
    /// Whether it is done although the active policy names it, or something has the new name
    /// already.
    pub(crate) anyway: bool,
}

impl Rename<'_> {
    /// The groups of a record, as they shall be; none where it has not this one.
    fn on(&self, groups: &[String]) -> Option<Vec<String>> {
        let is = |one: &str, other: &str| one.to_lowercase() == other.to_lowercase();
        groups.iter().find(|group| is(group, self.from))?;
        let mut after: Vec<String> = Vec::new();
        for group in groups {
            let name = if is(group, self.from) { self.to } else { Some(group.as_str()) };
            if let Some(name) = name.filter(|name| !after.iter().any(|known| is(known, name))) {
                after.push(name.to_owned());
            }
        }
        Some(after)
    }

    /// Whether what is known of names lets it be done.
    fn check<'n>(
        &self,
        what: &'static str,
        named_by: Vec<String>,
        mut known: impl Iterator<Item = &'n str>,
    ) -> Result<(), AdministrationError> {
        if self.to.is_some_and(|to| to.trim().is_empty() || to.len() > 253 || to.chars().any(char::is_control)) {
            return Err(AdministrationError::CommonName(what));
        }
        if self.anyway {
            return Ok(());
        }
        if !named_by.is_empty() {
            let by = format!("the active policy names it ({})", named_by.join("; "));
            return Err(AdministrationError::CommonNameInUse { what, name: self.from.to_owned(), by });
        }
        let same = |to: &str| to.to_lowercase() == self.from.to_lowercase();
        let taken =
            self.to.filter(|to| !same(to)).is_some_and(|to| known.any(|name| name.to_lowercase() == to.to_lowercase()));
        match taken {
            true => Err(AdministrationError::CommonNameTaken { what, name: self.to.unwrap_or_default().to_owned() }),
            false => Ok(()),
        }
    }
}

impl Identities {
    /// Every site at which a NAS stands or that the active policy names.
    pub(crate) fn sites(&self) -> Result<Vec<Site>, AdministrationError> {
        let mut sites: BTreeMap<String, Site> = BTreeMap::new();
        fn site<'s>(sites: &'s mut BTreeMap<String, Site>, name: &str) -> &'s mut Site {
            sites.entry(name.to_lowercase()).or_insert_with(|| Site { name: name.to_owned(), ..Site::default() })
        }
        for row in self.nases()? {
            site(&mut sites, &row.site).nases += 1;
        }
        for (name, place) in named::sites(&self.committer.snapshot.load().active.edition) {
            site(&mut sites, &name).named_by.push(place);
        }
        Ok(sites.into_values().collect())
    }

    /// Gives a site another name, at every NAS that stands there.
    pub(crate) fn rename_site(&self, rename: &Rename<'_>, by: &Author) -> Result<Renamed, AdministrationError> {
        let turn = self.committer.turn();
        let sites = self.sites()?;
        let is_it = |name: &str| name.to_lowercase() == rename.from.to_lowercase();
        let named_by = sites.iter().find(|site| is_it(&site.name)).map(|site| site.named_by.clone());
        rename.check("site", named_by.unwrap_or_default(), sites.iter().map(|site| site.name.as_str()))?;
        let mut nases: Vec<_> = self.nases()?.into_iter().filter(|row| is_it(&row.site)).collect();
        nases.iter_mut().for_each(|row| row.site = rename.to.unwrap_or_default().to_owned());
        let renamed = Renamed { nases: nases.len() as u64, ..Renamed::default() };
        if nases.is_empty() {
            return Err(AdministrationError::NoCommonName { what: "site", name: rename.from.to_owned() });
        }
        let rows = Rows { nases, ..Rows::default() };
        self.commit(&turn, Command::Change { was: rows.names().collect(), rows }, by)?;
        Ok(renamed)
    }

    /// Gives a group another name, or takes everybody out of it: people, machines and devices.
    pub(crate) fn rename_group(&self, rename: &Rename<'_>, by: &Author) -> Result<Renamed, AdministrationError> {
        let turn = self.committer.turn();
        let groups = self.groups()?;
        let known = groups.iter().find(|group| group.name.to_lowercase() == rename.from.to_lowercase());
        let named_by = known.map(|group| group.named_by.clone()).unwrap_or_default();
        rename.check("group", named_by, groups.iter().map(|group| group.name.as_str()))?;
        let before = self.committer.snapshot.load_full();
        let mut stores = LocalStores::clone(&before.stores);
        let renamed = self.committer.records.batch(|batch| {
            let mut renamed = Renamed::default();
            let mut put = |rows: Rows| {
                if rows.names().next().is_none() {
                    return Ok::<_, AdministrationError>(());
                }
                let command = Command::Change { was: rows.names().collect(), rows: rows.clone() };
                batch.apply(&Envelope::new(by, now_ms(), command))?.map_err(regnant_records::RecordsError::from)?;
                Ok(stores.add(&rows)?)
            };
            let mut accounts = Rows::default();
            for mut row in self.people()? {
                if let Some(groups) = rename.on(&row.groups) {
                    row.groups = groups;
                    accounts.people.push(row);
                }
            }
            for mut row in self.machines()? {
                if let Some(groups) = rename.on(&row.groups) {
                    row.groups = groups;
                    accounts.machines.push(row);
                }
            }
            (renamed.people, renamed.machines) = (accounts.people.len() as u64, accounts.machines.len() as u64);
            put(accounts)?;
            let mut after: Option<(String, Mac)> = None;
            loop {
                let group = Some(rename.from.to_owned());
                let filter = DeviceFilter { group, after: after.take(), limit: AT_ONCE, ..DeviceFilter::default() };
                let mut devices = self.devices(&filter)?;
                let Some(last) = devices.last() else { break };
                after = Some((last.store.clone(), last.first));
                for row in &mut devices {
                    row.groups = rename.on(&row.groups).unwrap_or_else(|| row.groups.clone());
                }
                renamed.devices += devices.len() as u64;
                put(Rows { devices, ..Rows::default() })?;
            }
            Ok::<_, AdministrationError>((renamed, Keep::All))
        })?;
        if renamed == Renamed::default() {
            return Err(AdministrationError::NoCommonName { what: "group", name: rename.from.to_owned() });
        }
        turn.swap(before.with_stores(stores));
        self.committer.write_texts();
        Ok(renamed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_group_is_renamed_where_it_stands_and_never_had_twice() {
        let on = |from: &str, to: Option<&str>, groups: &[&str]| {
            let groups: Vec<_> = groups.iter().map(|group| (*group).to_owned()).collect();
            Rename { from, to, anyway: false }.on(&groups)
        };
        assert_eq!(on("Crew", Some("hands"), &["staff", "crew"]), Some(vec!["staff".into(), "hands".into()]));
        assert_eq!(on("crew", Some("staff"), &["STAFF", "crew"]), Some(vec!["STAFF".into()]));
        assert_eq!(on("crew", None, &["crew"]), Some(Vec::new()));
        assert_eq!(on("crew", Some("hands"), &["staff"]), None);
    }
}
