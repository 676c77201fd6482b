//! The records: what people configure.
//!
//! This crate opens SQLite files and one key file, and nothing else; it knows no
//! socket and no HTTP. Read [`Records`] first, then [`LocalStores`].

mod error;
mod fetched_lists;
mod hash_pool;
mod inventory;
mod known_passwords;
mod password;
mod sealing;
mod shared;
mod snapshot;

pub use error::RecordsError;
pub use fetched_lists::FetchedLists;
pub use hash_pool::HashPool;
pub use inventory::{
    DeviceEntry, Inventory, InventoryError, KnownName, MachineEntry, NasEntry, PersonEntry, StoreEntry, StoreKind,
};
pub use password::{hash_password, verify_password};
pub use sealing::{KeyError, SealingKey};
pub use shared::administrators::{new_token, token_hash};
pub use shared::certificates::{CertificateRow, TrustRow};
pub use shared::editions::{Basis, EditionRow};
pub use shared::{Change, NasRow, Pending, Reading, Records};
pub use snapshot::LocalStores;
