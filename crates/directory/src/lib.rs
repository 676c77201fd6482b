//! Directories (LDAP, RFC 4511) as stores: whom they know, which groups somebody is in, and
//! whether a password is right.
//!
//! A directory is asked over several connections: some search, bound as the account that was
//! given for it, each with many questions on the way; others prove passwords and never search,
//! since one that is bound as a person sees what that person may see. What cannot be answered is
//! told in words that say what to do ([`Trouble`]).
//!
//! Of an Active Directory, its domain controllers check responses of MS-CHAP, over the secure channel
//! of a machine that has an account there.

mod answers;
mod certificates;
mod connection;
mod devices;
mod domain;
mod entry;
mod groups;
mod look;
mod names;
mod passwords;
mod probe;
mod servers;
mod settings;
mod standing;
mod state;
mod store;
mod times;
mod wire;

pub use answers::Trouble;
pub use devices::{DeviceList, ListedDevice};
#[doc(hidden)]
pub use entry::read_any;
pub use look::{FirstLookError, Offer, first_look};
pub use passwords::PasswordTimes;
pub use probe::Probe;
pub use settings::{DirectorySettings, GroupsBy, Notation, SettingsError, Transport};
pub use store::Directory;
