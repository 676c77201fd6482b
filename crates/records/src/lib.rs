//! The records: what people configure, shared, and what this node observes, local.
//!
//! This crate opens SQLite files and one key file, and nothing else; it knows no
//! socket and no HTTP. Read [`Records`] first (shared), then [`Journal`] (local).

mod error;
mod fetched_lists;
mod hash_pool;
mod inventory;
mod journal;
mod known_passwords;
mod password;
mod sealing;
mod shared;
mod snapshot;

pub use error::RecordsError;
pub use fetched_lists::FetchedLists;
pub use hash_pool::HashPool;
pub use inventory::{
    EndpointEntry, Inventory, InventoryError, KnownName, MachineEntry, NasEntry, PersonEntry, StoreEntry, StoreKind,
};
pub use journal::reader::{EntryFilter, JournalReader};
pub use journal::{CommitAges, Desk, Entry, Journal, Slot};
pub use password::{hash_password, verify_password};
pub use sealing::{KeyError, SealingKey};
pub use shared::administrators::{new_token, token_hash};
pub use shared::certificates::{CertificateRow, TrustRow};
pub use shared::editions::EditionRow;
pub use shared::{Change, NasRow, Pending, Reading, Records};
pub use snapshot::LocalStores;
