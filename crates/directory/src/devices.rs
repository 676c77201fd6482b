//! All devices that a directory keeps, for whoever takes them over into records.

use futures_util::future::try_join_all;
use ldap3::Scope;
use regnant_base::Mac;
use regnant_decision::KnownAttributes;
use regnant_policy::IdentityKind;

use crate::answers::Trouble;
use crate::connection::{Question, search_all};
use crate::entry::Entry;
use crate::groups;
use crate::store::{Directory, Inner, title_of};

/// Devices of one list.
const MOST: usize = 100_000;
/// Devices whose groups are asked for at once.
const AT_ONCE: usize = 32;

/// A device of a directory.
#[derive(Clone, Debug)]
pub struct ListedDevice {
    /// Its address.
    pub mac: Mac,
    /// What it is, for people.
    pub title: String,
    /// Its groups that have a short name.
    pub groups: Vec<String>,
    /// Whether it must stay out.
    pub barred: bool,
    /// What the directory tells of it.
    pub attributes: KnownAttributes,
}

/// Devices of a directory, and its entries that have no address that could be read.
#[derive(Clone, Debug, Default)]
pub struct DeviceList {
    /// Devices, in the order of their addresses.
    pub devices: Vec<ListedDevice>,
    /// Distinguished names of the others.
    pub unread: Vec<String>,
}

impl Directory {
    /// Every device that settings say how to find, 100,000 at most.
    pub async fn list_devices(&self) -> Result<DeviceList, Trouble> {
        let inner = self.inner().clone();
        let listing = self.runtime().spawn(async move { inner.list_devices().await });
        listing.await.unwrap_or_else(|_| Err(Trouble::Nonsense("it".into())))
    }
}

impl Inner {
    async fn list_devices(&self) -> Result<DeviceList, Trouble> {
        let settings = &self.settings;
        if settings.device_filter.is_empty() {
            return Err(Trouble::NoDevices);
        }
        let (mut ldap, address) = self.servers.first_that_searches().await?;
        let question = Question {
            base: settings.base.clone(),
            scope: Scope::Subtree,
            filter: settings.device_filter.clone(),
            attributes: self.device_attributes(),
            most: MOST + 1,
        };
        let entries = search_all(&mut ldap, &address.url, &question).await?;
        if entries.len() > MOST {
            return Err(Trouble::TooManyDevices(MOST));
        }
        let mut list = DeviceList::default();
        for some in entries.chunks(AT_ONCE) {
            for devices in try_join_all(some.iter().map(|entry| self.devices_of(entry))).await? {
                match devices {
                    Ok(devices) => list.devices.extend(devices),
                    Err(name) => list.unread.push(name),
                }
            }
        }
        list.devices.sort_by_key(|device| device.mac);
        Ok(list)
    }

    /// The devices of an entry, each address of it one; or the name of an entry without any.
    async fn devices_of(&self, entry: &Entry) -> Result<Result<Vec<ListedDevice>, String>, Trouble> {
        let written = entry.all(&self.settings.device_name);
        let addresses: Vec<Mac> = written.iter().filter_map(|one| one.parse().ok()).collect();
        if addresses.is_empty() {
            return Ok(Err(entry.name.clone()));
        }
        let told = groups::of(entry, &self.settings, &self.servers).await?;
        if told.in_part {
            return Err(Trouble::GroupsInPart(entry.name.clone()));
        }
        let groups = told.short(&self.settings);
        let state = self.state(entry).await?;
        let device = |mac| ListedDevice {
            mac,
            title: title_of(entry),
            groups: groups.clone(),
            barred: state.disabled.is_some(),
            attributes: self.facts(IdentityKind::Mac, entry),
        };
        Ok(Ok(addresses.into_iter().map(device).collect()))
    }
}
