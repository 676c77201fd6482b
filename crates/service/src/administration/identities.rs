use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use regnant_base::{Mac, SecretText};

use regnant_records::{
    AdministratorRow, Author, Barred, Command, CommonNameKind, DeclaredAttributes, DeviceEntry, DeviceFilter,
    DeviceRow, KeptPassword, MachineEntry, MachineRow, Marked, NasRow, PersonEntry, PersonRow, Reading, RecordName,
    RecordsError, Role, Rows, StoreKind, StoreRow,
};

use crate::administration::committer::{Committer, Turn};
use crate::administration::followers::write_texts;
use crate::administration::{AdministrationError, RecordVersion, entries, is_as_seen, named, privilege};
use crate::clock::now_ms;

/// Devices that are changed or removed at once.
pub(crate) const MOST_AT_ONCE: usize = 10_000;

/// People, machines and devices, in their stores.
pub struct Identities {
    pub(crate) committer: Arc<Committer>,
}

impl Identities {
    /// Every store.
    pub(crate) fn stores(&self) -> Result<Vec<StoreRow>, AdministrationError> {
        Ok(self.committer.records.all()?)
    }

    /// Adds a store.
    pub(crate) fn add_store(&self, name: &str, kind: StoreKind, by: &Author) -> Result<StoreRow, AdministrationError> {
        let row = regnant_records::StoreEntry { name: name.to_owned(), kind }.row()?;
        let rows = Rows { stores: vec![row.clone()], ..Rows::default() };
        self.committer.turn().commit(by, Command::Add(rows))?;
        Ok(row)
    }

    /// Forgets a store that is empty and that the active policy does not name, where it is as its author saw it.
    pub(crate) fn remove_store(
        &self,
        name: &str,
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let turn = self.committer.turn();
        let known = self.store(name)?;
        is_as_seen(name, Some(&known), seen)?;
        let record = RecordName::Store(known.name.clone());
        if self.committer.snapshot.load().active.edition.policy.stores().contains(&known.name) {
            let by = "the active policy looks identities up in it".to_owned();
            return Err(AdministrationError::RecordInUse { record, by });
        }
        turn.commit(by, Command::Remove(vec![record])).map(drop)
    }

    /// Gives a store that the active policy does not name another name, with all that is in it.
    pub(crate) fn rename_store(
        &self,
        (from, to): (&str, &str),
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let turn = self.committer.turn();
        let known = self.store(from)?;
        is_as_seen(from, Some(&known), seen)?;
        let from = &*known.name.clone();
        let record = RecordName::Store(from.to_owned());
        if self.committer.snapshot.load().active.edition.policy.stores().iter().any(|store| store == from) {
            let by = "the active policy looks identities up in it".to_owned();
            return Err(AdministrationError::RecordInUse { record, by });
        }
        let key = &self.committer.environment.key;
        let named = regnant_records::StoreEntry { name: to.to_owned(), kind: StoreKind::People }.row()?;
        // What is sealed is so for the name.
        let secret = known.open_secret(key)?;
        let store = StoreRow::outside(named.name, known.kind, known.settings, secret.as_ref(), key);
        if store.name == from {
            return Ok(());
        }
        let (mut was, mut rows) = (vec![record], Rows { stores: vec![store.clone()], ..Rows::default() });
        for row in self.people()?.into_iter().filter(|row| row.store == from) {
            was.push(RecordName::Person { store: row.store.clone(), name: row.name.clone() });
            let entry = PersonEntry { store: store.name.clone(), ..entries::person(&row) };
            rows.people.push(entry.row(key, Some(&row))?);
        }
        for row in self.machines()?.into_iter().filter(|row| row.store == from) {
            was.push(RecordName::Machine { store: row.store.clone(), name: row.name.clone() });
            let entry = MachineEntry { store: store.name.clone(), ..entries::machine(&row) };
            rows.machines.push(entry.row(key, Some(&row))?);
        }
        // Devices go with their store.
        turn.commit(by, Command::Change { was, rows }).map(drop)
    }

    /// Every person.
    pub(crate) fn people(&self) -> Result<Vec<PersonRow>, AdministrationError> {
        Ok(self.committer.records.all()?)
    }

    /// How many people there are, and those after one by store and name.
    pub(crate) fn people_after(
        &self,
        after: Option<(&str, &str)>,
        most: usize,
    ) -> Result<(usize, Vec<PersonRow>), AdministrationError> {
        Ok(self.committer.records.people_after(after, most)?)
    }

    /// A person.
    pub(crate) fn person(&self, store: &str, name: &str) -> Result<PersonRow, AdministrationError> {
        let record = RecordName::Person { store: store.to_owned(), name: name.to_owned() };
        let found = self.committer.records.find(&record)?.people.pop();
        found.ok_or(AdministrationError::NotFound(record))
    }

    /// Adds a person.
    pub(crate) fn add_person(&self, entry: PersonEntry, by: &Author) -> Result<PersonRow, AdministrationError> {
        // Hashing a password is slow, and nobody waits for it.
        let row = entry.row(&self.committer.environment.key, None)?;
        let rows = Rows { people: vec![row.clone()], ..Rows::default() };
        self.committer.turn().commit(by, Command::Add(rows))?;
        Ok(row)
    }

    /// Puts a person in the place of what they were, where that is still as its author saw
    /// it.
    pub(crate) fn change_person(
        &self,
        (store, name): (&str, &str),
        seen: Option<&RecordVersion>,
        change: impl Fn(&PersonRow) -> PersonEntry,
        by: &Author,
    ) -> Result<PersonRow, AdministrationError> {
        let hashed = |before: &PersonRow| {
            is_as_seen(&before.name, Some(before), seen)?;
            let entry = change(before);
            Ok((entry.record_name(), entry.row(&self.committer.environment.key, Some(before))?))
        };
        let (turn, before, (named, row)) = self.committer.prepared(|| self.person(store, name), hashed)?;
        let was = RecordName::Person { store: before.store, name: before.name };
        if named != was {
            self.is_free(&was)?;
        }
        let rows = Rows { people: vec![row.clone()], ..Rows::default() };
        turn.commit(by, Command::Change { was: vec![was], rows })?;
        Ok(row)
    }

    /// Sets a password for somebody whom no rule could make an administrator.
    pub(crate) fn help_person(
        &self,
        store: &str,
        name: &str,
        password: &SecretText,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let hashed = |before: &PersonRow| {
            self.may_be_helped(before)?;
            let entry = PersonEntry { password: Some(password.clone()), ..entries::person(before) };
            Ok(entry.row(&self.committer.environment.key, Some(before))?)
        };
        let (turn, before, row) = self.committer.prepared(|| self.person(store, name), hashed)?;
        // Meanwhile another policy may count, or what is said of their groups.
        self.may_be_helped(&before)?;
        let was = RecordName::Person { store: before.store, name: before.name };
        let rows = Rows { people: vec![row], ..Rows::default() };
        turn.commit(by, Command::Change { was: vec![was], rows }).map(drop)
    }

    fn may_be_helped(&self, person: &PersonRow) -> Result<(), AdministrationError> {
        match self.engineers_only(person) {
            Some(why) => Err(AdministrationError::EngineersOnly { name: person.name.clone(), why }),
            None => Ok(()),
        }
    }

    /// Why the helpdesk may not set the password of a person, where it may not.
    pub(crate) fn engineers_only(&self, person: &PersonRow) -> Option<String> {
        if person.engineers_only {
            return Some("they are marked engineers only".into());
        }
        let reach = privilege::reach(&self.committer.snapshot.load().active.edition, person)?;
        if !reach.is_theirs && self.is_ordinary(person) {
            return None;
        }
        Some(format!("{}, which could make them an administrator of equipment", reach.why))
    }

    /// Whether an engineer says so of a person, or of a group that they are in. Where that cannot be read,
    /// nobody does.
    fn is_ordinary(&self, person: &PersonRow) -> bool {
        let of_group = |group: &String| {
            let name = RecordName::CommonName { kind: CommonNameKind::Group, name: group.clone() };
            self.committer.records.find(&name).is_ok_and(|rows| rows.common_names.iter().any(|row| row.ordinary))
        };
        person.ordinary || person.groups.iter().any(of_group)
    }

    /// Every machine.
    pub(crate) fn machines(&self) -> Result<Vec<MachineRow>, AdministrationError> {
        Ok(self.committer.records.all()?)
    }

    /// A machine.
    pub(crate) fn machine(&self, store: &str, name: &str) -> Result<MachineRow, AdministrationError> {
        let record = RecordName::Machine { store: store.to_owned(), name: name.to_owned() };
        let found = self.committer.records.find(&record)?.machines.pop();
        found.ok_or(AdministrationError::NotFound(record))
    }

    /// Adds a machine.
    pub(crate) fn add_machine(&self, entry: MachineEntry, by: &Author) -> Result<MachineRow, AdministrationError> {
        let row = entry.row(&self.committer.environment.key, None)?;
        let rows = Rows { machines: vec![row.clone()], ..Rows::default() };
        self.committer.turn().commit(by, Command::Add(rows))?;
        Ok(row)
    }

    /// Puts a machine in the place of what it was.
    pub(crate) fn change_machine(
        &self,
        (store, name): (&str, &str),
        seen: Option<&RecordVersion>,
        change: impl Fn(&MachineRow) -> MachineEntry,
        by: &Author,
    ) -> Result<MachineRow, AdministrationError> {
        let hashed = |before: &MachineRow| {
            is_as_seen(&before.name, Some(before), seen)?;
            let entry = change(before);
            Ok((entry.record_name(), entry.row(&self.committer.environment.key, Some(before))?))
        };
        let (turn, before, (named, row)) = self.committer.prepared(|| self.machine(store, name), hashed)?;
        let was = RecordName::Machine { store: before.store, name: before.name };
        if named != was {
            self.is_free(&was)?;
        }
        let rows = Rows { machines: vec![row.clone()], ..Rows::default() };
        turn.commit(by, Command::Change { was: vec![was], rows })?;
        Ok(row)
    }

    /// Forgets a record that the active policy does not name, where it is still as its
    /// author saw it.
    pub(crate) fn remove(
        &self,
        record: RecordName,
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let turn = self.committer.turn();
        let rows = self.committer.records.find(&record)?;
        let record = rows.names().next().ok_or(AdministrationError::NotFound(record))?;
        let version = match (&rows.people[..], &rows.machines[..], &rows.devices[..]) {
            ([row], _, _) => RecordVersion::of(row),
            (_, [row], _) => RecordVersion::of(row),
            (_, _, [row]) => RecordVersion::of(row),
            _ => RecordVersion::of(&rows),
        };
        if seen.is_some_and(|seen| *seen != version) {
            return Err(AdministrationError::Changed(record.to_string()));
        }
        self.is_free(&record)?;
        turn.commit(by, Command::Remove(vec![record])).map(drop)
    }

    /// What is kept of the password of a person or a machine; that somebody saw it stands in the
    /// audit.
    pub(crate) fn reveal(&self, record: &RecordName, by: &Author) -> Result<KeptPassword, AdministrationError> {
        let rows = self.committer.records.find(record)?;
        let key = &self.committer.environment.key;
        let kept = match (&rows.people[..], &rows.machines[..]) {
            ([person], _) => KeptPassword::of_person(person, key)?,
            (_, [machine]) => KeptPassword::of_machine(machine, key)?,
            _ => return Err(AdministrationError::NotFound(record.clone())),
        };
        let name = rows.names().next().unwrap_or_else(|| record.clone());
        self.committer.apply(by, Command::Reveal(name))?;
        Ok(kept)
    }

    /// How many devices each store has.
    pub(crate) fn device_counts(&self) -> BTreeMap<String, usize> {
        let stores = self.committer.snapshot.load().stores.clone();
        stores.device_counts().map(|(name, count)| (name.to_owned(), count)).collect()
    }

    fn declared(&self) -> DeclaredAttributes {
        self.committer.snapshot.load().languages.declared()
    }

    /// The devices that a filter lets through.
    pub(crate) fn devices(&self, filter: &DeviceFilter) -> Result<Vec<DeviceRow>, AdministrationError> {
        let stores = self.committer.snapshot.load().stores.clone();
        let found = self.committer.texts.devices(&stores, &self.committer.records, filter);
        if matches!(found, Err(RecordsError::Texts(_))) {
            // There may be room on the disk by now.
            write_texts(&self.committer.texts, &self.committer.records);
        }
        Ok(found?)
    }

    /// A device.
    pub(crate) fn device(&self, store: &str, mac: Mac) -> Result<DeviceRow, AdministrationError> {
        let record = RecordName::Device { store: store.to_owned(), mac };
        let found = self.committer.records.find(&record)?.devices.pop();
        found.ok_or(AdministrationError::NotFound(record))
    }

    /// Adds a device, or a range of devices of which there is none.
    pub(crate) fn add_device(&self, entry: DeviceEntry, by: &Author) -> Result<DeviceRow, AdministrationError> {
        let row = entry.row(Marked { by: &by.name, at: now_ms().cast_signed(), declared: &self.declared() })?;
        let rows = Rows { devices: vec![row.clone()], ..Rows::default() };
        self.committer.turn().commit(by, Command::Add(rows))?;
        Ok(row)
    }

    /// Puts a device in the place of what it was.
    pub(crate) fn change_device(
        &self,
        (store, mac): (&str, Mac),
        seen: Option<&RecordVersion>,
        change: impl FnOnce(&DeviceRow) -> DeviceEntry,
        by: &Author,
    ) -> Result<DeviceRow, AdministrationError> {
        let turn = self.committer.turn();
        let before = self.device(store, mac)?;
        is_as_seen(&mac.to_string(), Some(&before), seen)?;
        let entry = change(&before);
        let mut row = entry.row(Marked { by: &by.name, at: now_ms().cast_signed(), declared: &self.declared() })?;
        // Whoever barred it and when stays, where the reason does.
        let reason = |row: &DeviceRow| row.barred.as_ref().map(|barred| barred.reason.clone());
        if reason(&row) == reason(&before) {
            row.barred.clone_from(&before.barred);
        }
        let was = RecordName::Device { store: before.store.clone(), mac };
        if row.first != mac || row.store != before.store {
            self.is_free(&was)?;
        }
        let rows = Rows { devices: vec![row.clone()], ..Rows::default() };
        turn.commit(by, Command::Change { was: vec![was], rows })?;
        Ok(row)
    }

    /// Bars devices for a reason, or lets them in again; all or none. Gives those that there
    /// are, as they are now.
    pub(crate) fn bar(
        &self,
        macs: &[Mac],
        reason: Option<&str>,
        (by, role): (&Author, Role),
    ) -> Result<Vec<DeviceRow>, AdministrationError> {
        let turn = self.committer.turn();
        let at = now_ms().cast_signed();
        if role != Role::Engineer {
            self.barred_by_no_engineer(macs)?;
        }
        let change = |row: &mut DeviceRow| {
            // Whoever barred it first for that reason stays told.
            if row.barred.as_ref().map(|barred| barred.reason.as_str()) != reason {
                row.barred = reason.map(|reason| Barred { reason: reason.to_owned(), by: by.name.clone(), at });
            }
        };
        self.change_several(&turn, macs, change, by)
    }

    /// Whether no engineer keeps one of these out: what they decided only they take back, or change the reason of.
    fn barred_by_no_engineer(&self, macs: &[Mac]) -> Result<(), AdministrationError> {
        let administrators: Vec<AdministratorRow> = self.committer.records.all()?;
        let engineer = |name: &str| {
            administrators.iter().any(|row| row.role == Role::Engineer && row.name.eq_ignore_ascii_case(name))
        };
        for row in self.each_of(macs)? {
            if let Some(Barred { by, reason, .. }) = row.barred.filter(|barred| engineer(&barred.by)) {
                return Err(AdministrationError::BarredByEngineer { device: row.first, by, reason });
            }
        }
        Ok(())
    }

    /// Puts devices into groups, takes them out of others; all or none.
    pub(crate) fn regroup(
        &self,
        macs: &[Mac],
        (into, out_of): (&[String], &[String]),
        by: &Author,
    ) -> Result<Vec<DeviceRow>, AdministrationError> {
        let turn = self.committer.turn();
        self.change_several(&turn, macs, |row| regroup(&mut row.groups, into, out_of), by)
    }

    /// Forgets devices; all or none.
    pub(crate) fn remove_devices(&self, macs: &[Mac], by: &Author) -> Result<usize, AdministrationError> {
        let turn = self.committer.turn();
        let names: Vec<_> = self
            .each_of(macs)?
            .into_iter()
            .map(|row| RecordName::Device { store: row.store, mac: row.first })
            .collect();
        names.iter().try_for_each(|name| self.is_free(name))?;
        let count = names.len();
        turn.commit(by, Command::Remove(names))?;
        Ok(count)
    }

    fn change_several(
        &self,
        turn: &Turn<'_>,
        macs: &[Mac],
        change: impl Fn(&mut DeviceRow),
        by: &Author,
    ) -> Result<Vec<DeviceRow>, AdministrationError> {
        let mut devices = self.each_of(macs)?;
        let before = devices.clone();
        devices.iter_mut().for_each(change);
        // What changes nothing is not written: asked again and again it would fill the log.
        let changed = devices.iter().zip(&before).filter(|(now, before)| now != before).map(|(now, _)| now.clone());
        let rows = Rows { devices: changed.collect(), ..Rows::default() };
        if !rows.devices.is_empty() {
            let was = rows.names().collect();
            turn.commit(by, Command::Change { was, rows })?;
        }
        Ok(devices)
    }

    /// The devices of these addresses, in every store; each address is one's.
    fn each_of(&self, macs: &[Mac]) -> Result<Vec<DeviceRow>, AdministrationError> {
        let macs: BTreeSet<_> = macs.iter().copied().collect();
        if macs.is_empty() || macs.len() > MOST_AT_ONCE {
            return Err(AdministrationError::HowMany { what: "devices", got: macs.len(), most: MOST_AT_ONCE });
        }
        let stores: Vec<_> = self.stores()?.into_iter().filter(|row| row.kind == StoreKind::Devices).collect();
        let (mut found, mut missing) = (Vec::new(), Vec::new());
        for mac in macs {
            let before = found.len();
            for store in &stores {
                let record = RecordName::Device { store: store.name.clone(), mac };
                found.extend(self.committer.records.find(&record)?.devices);
            }
            if found.len() == before {
                missing.push(mac.to_string());
            }
        }
        match missing.is_empty() {
            true => Ok(found),
            false => Err(AdministrationError::UnknownDevices(missing)),
        }
    }

    /// Where the active policy names a record.
    pub(crate) fn named_by(&self, record: &RecordName) -> Vec<String> {
        named::record(&self.committer.snapshot.load().active.edition, record)
    }

    pub(crate) fn is_free(&self, record: &RecordName) -> Result<(), AdministrationError> {
        let by = self.named_by(record);
        match by.is_empty() {
            true => Ok(()),
            false => {
                let by = format!("the active policy names it ({})", by.join("; "));
                Err(AdministrationError::RecordInUse { record: record.clone(), by })
            }
        }
    }

    /// Every NAS.
    pub(crate) fn nases(&self) -> Result<Vec<NasRow>, AdministrationError> {
        Ok(self.committer.records.all()?)
    }
}

/// Puts something into groups, and takes it out of others.
pub(crate) fn regroup(groups: &mut Vec<String>, into: &[String], out_of: &[String]) {
    let is = |group: &String, other: &String| group.to_lowercase() == other.to_lowercase();
    groups.retain(|group| !out_of.iter().any(|gone| is(gone, group)));
    for group in into {
        if !groups.iter().any(|known| is(known, group)) {
            groups.push(group.clone());
        }
    }
}
