//! Records as they would be written anew, without their secrets.

use regnant_records::{
    Addresses, DeviceEntry, DeviceRow, MachineEntry, MachineRow, NasEntry, NasRow, PersonEntry, PersonRow,
};

use crate::clock::iso;

fn time(at: Option<i64>) -> Option<String> {
    at.map(|at| iso(at.cast_unsigned()))
}

/// A NAS.
pub(crate) fn nas(row: &NasRow) -> NasEntry {
    NasEntry {
        name: row.name.clone(),
        address: Addresses::Several(row.networks.iter().map(ToString::to_string).collect()),
        kind: row.kind,
        site: row.site.clone(),
        tags: row.tags.clone(),
        note: row.note.clone(),
        dialect: row.dialect.clone(),
        secret: None,
        require_message_authenticator: row.radius.require_message_authenticator,
        class_at_login: row.radius.class_at_login,
    }
}

/// A person.
pub(crate) fn person(row: &PersonRow) -> PersonEntry {
    PersonEntry {
        store: row.store.clone(),
        name: row.name.clone(),
        password: None,
        password_hash: None,
        nt_hash: None,
        recoverable_password: row.recoverable.is_some(),
        mschap: row.nt_hash.is_some(),
        groups: row.groups.clone(),
        disabled: row.disabled,
        expires: time(row.expires),
        engineers_only: row.engineers_only,
        ordinary: row.ordinary,
        note: row.note.clone(),
    }
}

/// A machine.
pub(crate) fn machine(row: &MachineRow) -> MachineEntry {
    MachineEntry {
        store: row.store.clone(),
        name: row.name.clone(),
        password: None,
        password_hash: None,
        nt_hash: None,
        mschap: row.nt_hash.is_some(),
        groups: row.groups.clone(),
        disabled: row.disabled,
        expires: time(row.expires),
        note: row.note.clone(),
    }
}

/// A device.
pub(crate) fn device(row: &DeviceRow) -> DeviceEntry {
    DeviceEntry {
        store: row.store.clone(),
        mac: row.first.to_string(),
        last: (row.first != row.last).then(|| row.last.to_string()),
        title: row.title.clone(),
        groups: row.groups.clone(),
        owner: row.owner.clone(),
        note: row.note.clone(),
        expires: time(row.expires),
        barred: row.barred.is_some(),
        barred_reason: row.barred.as_ref().map(|barred| barred.reason.clone()).unwrap_or_default(),
        attributes: row.attributes.clone(),
    }
}
