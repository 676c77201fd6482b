//! The records: what people configure.
//!
//! This crate opens SQLite files and one key file, and nothing else; it knows no
//! socket and no HTTP. Read [`Command`] first, which is the only way to change anything,
//! then [`Records`], then [`LocalStores`], which is what the packet path asks.

mod command;
mod database;
mod error;
mod fetched_lists;
mod hash_pool;
mod inventory;
mod known_passwords;
mod password;
mod rows;
mod sealing;
mod sharded;
mod stores;

pub use command::{
    BasisOf, Command, CommandId, Conflict, Done, Envelope, Expected, Fault, Import, Missing, Outcome, TokenHash,
    VERSION,
};
pub use database::administrators::{administrator_row, new_token, token_hash};
pub use database::editions::{Basis, EditionRow};
pub use database::log::AuditEntry;
pub use database::rotation::{RotationError, rotate_key, take_key};
pub use database::{Committed, Pending, Reading, Record, Records};
pub use error::{RecordsError, Refusal};
pub use fetched_lists::FetchedLists;
pub use hash_pool::HashPool;
pub use inventory::{
    Addresses, DeviceEntry, Inventory, InventoryError, MachineEntry, NasEntry, PersonEntry, StoreEntry,
};
pub use password::{hash_password, verify_password};
pub use rows::{
    AdministratorRow, CertificateRow, DeviceRow, LanguageKind, LanguageRow, MachineRow, NasRow, PersonRow, Rows,
    SecretRow, StoreKind, StoreRow, TrustRow,
};
pub use sealing::{KeyError, KeyId, Sealed, SealingKey};
pub use stores::LocalStores;
