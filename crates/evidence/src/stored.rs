//! The stored form: one byte for its version, then the fields in order (postcard).
//!
//! Every version that was ever released stays readable: a change of any type in here
//! that changes the bytes is a new version, with a reader of its own for the old one.

use serde::Serialize;
use thiserror::Error;
use ulid::Ulid;

use crate::evidence::Evidence;
use crate::record::accounting::AccountingRecord;
use crate::unheard::UnheardRecord;

/// The version that is written. What builds before the first release wrote under 1 is read by nobody.
const VERSION: u8 = 2;

/// Why an entry cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum Unreadable {
    /// There is nothing.
    #[error("the entry is empty")]
    Empty,
    /// A newer release wrote it.
    #[error("the entry has the form {0}, which this release does not know; another one wrote it")]
    Version(u8),
    /// It does not read.
    #[error("the entry is damaged")]
    Damaged,
}

impl Evidence {
    /// The stored form.
    pub fn to_bytes(&self) -> Vec<u8> {
        bytes_of(self)
    }

    /// Reads the stored form of the entry with this id.
    pub fn from_bytes(id: Ulid, bytes: &[u8]) -> Result<Self, Unreadable> {
        let read: Self = postcard::from_bytes(body(bytes)?).map_err(|_| Unreadable::Damaged)?;
        Ok(Self { id, ..read })
    }
}

impl UnheardRecord {
    /// The stored form.
    pub fn to_bytes(&self) -> Vec<u8> {
        bytes_of(self)
    }

    /// Reads the stored form of the entry with this id.
    pub fn from_bytes(id: Ulid, bytes: &[u8]) -> Result<Self, Unreadable> {
        let read: Self = postcard::from_bytes(body(bytes)?).map_err(|_| Unreadable::Damaged)?;
        Ok(Self { id: id.to_string(), ..read })
    }
}

impl AccountingRecord {
    /// The stored form.
    pub fn to_bytes(&self) -> Vec<u8> {
        bytes_of(self)
    }

    /// Reads the stored form of the entry with this id.
    pub fn from_bytes(id: Ulid, bytes: &[u8]) -> Result<Self, Unreadable> {
        let read: Self = postcard::from_bytes(body(bytes)?).map_err(|_| Unreadable::Damaged)?;
        Ok(Self { id, ..read })
    }
}

/// As many bytes as most entries have, or more.
const MOST_OFTEN: usize = 768;

fn bytes_of(entry: &impl Serialize) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(MOST_OFTEN);
    bytes.push(VERSION);
    postcard::to_extend(entry, bytes).expect("memory takes what is written to it")
}

fn body(bytes: &[u8]) -> Result<&[u8], Unreadable> {
    match bytes.split_first() {
        None => Err(Unreadable::Empty),
        Some((&VERSION, body)) => Ok(body),
        Some((version, _)) => Err(Unreadable::Version(*version)),
    }
}
