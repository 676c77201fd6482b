//! Devices, as they are kept, and their addresses.

use regnant_base::Mac;
use serde::{Deserialize, Serialize};

use crate::attributes::AttributeValues;
use crate::rows::as_text;

/// A device, or devices of adjoining addresses that have everything else in common.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct DeviceRow {
    /// The store.
    pub store: String,
    /// Its address, or the first.
    #[serde(with = "as_text")]
    pub first: Mac,
    /// The last address; the first again where there is one only.
    #[serde(with = "as_text")]
    pub last: Mac,
    /// What it is, for people.
    pub title: String,
    /// Its groups.
    pub groups: Vec<String>,
    /// Whose it is.
    pub owner: String,
    /// What people should know.
    pub note: String,
    /// From when on it is not known any more, in milliseconds since 1970.
    pub expires: Option<i64>,
    /// What people keep of it beside.
    #[serde(default, skip_serializing_if = "AttributeValues::is_empty")]
    pub attributes: AttributeValues,
    /// Why it must stay out, where it must.
    pub barred: Option<Barred>,
}

/// That a device must stay out.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Barred {
    /// Why, for people.
    pub reason: String,
    /// Who said so.
    pub by: String,
    /// When, in milliseconds since 1970; 0 where nobody knows.
    pub at: i64,
}

/// A range of devices has at most this many addresses.
pub(crate) const MOST_ADDRESSES: u64 = 65_536;

impl DeviceRow {
    /// Its attributes, as they are kept.
    pub(crate) fn attributes_as_json(&self) -> String {
        serde_json::to_string(&self.attributes).expect("values are JSON")
    }

    /// Its groups, as they are kept.
    pub(crate) fn groups_as_json(&self) -> String {
        serde_json::to_string(&self.groups).expect("texts are JSON")
    }

    /// How many addresses it has.
    pub fn count(&self) -> u64 {
        count(self.first, self.last)
    }

    /// Its addresses.
    pub fn addresses(&self) -> impl Iterator<Item = Mac> + use<> {
        range(self.first, self.last)
    }
}

/// How many addresses there are from one to another; 0 where they go backwards.
pub(crate) fn count(first: Mac, last: Mac) -> u64 {
    (number(last) + 1).saturating_sub(number(first))
}

/// The addresses from one to another.
pub(crate) fn range(first: Mac, last: Mac) -> impl Iterator<Item = Mac> {
    (number(first)..=number(last)).map(|number| {
        let [_, _, rest @ ..] = number.to_be_bytes();
        Mac(rest)
    })
}

pub(crate) fn number(Mac([a, b, c, d, e, f]): Mac) -> u64 {
    u64::from_be_bytes([0, 0, a, b, c, d, e, f])
}
