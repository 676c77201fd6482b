//! The records: what people configure.
//!
//! This crate opens SQLite files and one key file, and nothing else; it knows no
//! socket and no HTTP. Read [`Command`] first, which is the only way to change anything,
//! then [`Records`], then [`LocalStores`], which is what the packet path asks.

mod attributes;
mod command;
mod database;
mod device_search;
mod device_table;
mod device_texts;
mod error;
mod fetched_lists;
mod hash_pool;
mod inventory;
mod known_passwords;
mod mac_map;
mod names;
mod node_audit;
mod password;
mod password_rules;
mod rows;
mod sealing;
mod sharded;
mod stores;
mod token_uses;
mod unusable;

pub use attributes::{AttributeValue, AttributeValues, DeclaredAttributes, declaration, declared};
pub use command::{
    Author, BasisOf, Command, CommandId, Conflict, Done, DraftOf, Envelope, Expected, Fault, Import, Missing, Outcome,
    Personal, ShownCode, TokenHash, VERSION,
};
pub use database::administrators::{
    Bearer, KnownAdministrator, TokenRow, new_token, sealed_password, sealed_second_factor, token_hash,
};
pub use database::changes::FieldChange;
pub use database::drafts::DraftRow;
pub use database::editions::{Basis, EditionRow};
pub use database::log::{AuditEntry, AuditFilter, Verified};
pub use database::rotation::{RotationError, offer_key, records_key, rotate_key, take_key, withdraw_key};
pub use database::{
    Batch, Committed, Keep, Pending, Reading, Record, Records, check_records, copy_database, settle_database,
};
pub use device_search::DeviceFilter;
pub use device_texts::DeviceTexts;
pub use error::{RecordsError, Refusal};
pub use fetched_lists::FetchedLists;
pub use hash_pool::HashPool;
pub use inventory::{
    Addresses, CommonNameEntry, DeviceEntry, ImportError, Inventory, InventoryError, KeptPassword, MachineEntry,
    Marked, NasEntry, PersonEntry, StoreEntry,
};
pub use names::{NoRecordName, RecordName};
pub use node_audit::{NodeAudit, NodeEntry, Seen};
pub use password::{hash_password, verify_password};
pub use password_rules::{WeakPassword, fit_password};
pub use rows::{
    AdministratorRow, Barred, CertificateRow, CommonNameKind, CommonNameRow, DeviceRow, FormerSecretRow, LanguageKind,
    LanguageRow, MachineRow, NasRow, PersonRow, RadiusRow, Role, Rows, SecretRow, StoreKind, StoreRow, TrustRow,
};
pub use sealing::{KeyError, KeyId, Sealed, SealingKey};
pub use stores::LocalStores;
pub use token_uses::{TokenUse, TokenUses};
pub use unusable::Unusable;
