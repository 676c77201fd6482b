//! What records are called: by commands, by the audit, and by whoever asks for the past
//! of one.

use regnant_base::Mac;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::rows::{CommonNameKind, LanguageKind, as_text, fold};

/// Which record it is.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RecordName {
    /// A store.
    Store(String),
    /// A NAS.
    Nas(String),
    /// A person.
    Person {
        /// The store.
        store: String,
        /// The name they sign in with.
        name: String,
    },
    /// A machine.
    Machine {
        /// The store.
        store: String,
        /// Its name.
        name: String,
    },
    /// A device.
    Device {
        /// The store.
        store: String,
        /// Its address.
        #[serde(with = "as_text")]
        mac: Mac,
    },
    /// A certificate that is presented.
    Certificate(String),
    /// A trust.
    Trust(String),
    /// An administrator.
    Administrator(String),
    /// A secret that replies carry.
    Secret(String),
    /// A dictionary, a dialect or an attribute of devices.
    Language {
        /// Which of them.
        kind: LanguageKind,
        /// Its name.
        name: String,
    },
    /// A group or a site.
    CommonName {
        /// Which of them.
        kind: CommonNameKind,
        /// Its name.
        name: String,
    },
}

impl RecordName {
    /// The word for what it is.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Store(_) => "store",
            Self::Nas(_) => "NAS",
            Self::Person { .. } => "person",
            Self::Machine { .. } => "machine",
            Self::Device { .. } => "device",
            Self::Certificate(_) => "certificate",
            Self::Trust(_) => "trust",
            Self::Administrator(_) => "administrator",
            Self::Secret(_) => "secret",
            Self::Language { kind, .. } => kind.word(),
            Self::CommonName { kind, .. } => kind.word(),
        }
    }

    /// The store that it is in, and its name.
    pub(crate) fn parts(&self) -> (Option<&str>, String) {
        match self {
            Self::Store(name)
            | Self::Nas(name)
            | Self::Certificate(name)
            | Self::Trust(name)
            | Self::Administrator(name)
            | Self::Secret(name)
            | Self::Language { name, .. }
            | Self::CommonName { name, .. } => (None, name.clone()),
            Self::Person { store, name } | Self::Machine { store, name } => (Some(store), name.clone()),
            Self::Device { store, mac } => (Some(store), mac.to_string()),
        }
    }

    /// The same for every spelling under which it is found.
    pub(crate) fn folded(&self) -> Self {
        match self {
            Self::Nas(name) => Self::Nas(fold(name)),
            Self::Person { store, name } => Self::Person { store: store.clone(), name: fold(name) },
            Self::Machine { store, name } => Self::Machine { store: store.clone(), name: fold(name) },
            Self::Administrator(name) => Self::Administrator(fold(name)),
            Self::Secret(name) => Self::Secret(fold(name)),
            Self::Language { kind, name } => Self::Language { kind: *kind, name: fold(name) },
            Self::CommonName { kind, name } => Self::CommonName { kind: *kind, name: fold(name) },
            Self::Store(_) | Self::Device { .. } | Self::Certificate(_) | Self::Trust(_) => self.clone(),
        }
    }

    /// As one text: `person/harbour/ida.marsh`. A `/` or `%` within a part stands as `%2F`
    /// or `%25`.
    pub fn path(&self) -> String {
        let (store, name) = self.parts();
        let part = |text: &str| text.replace('%', "%25").replace('/', "%2F");
        let kind = self.kind().to_lowercase();
        match store {
            Some(store) => format!("{kind}/{}/{}", part(store), part(&name)),
            None => format!("{kind}/{}", part(&name)),
        }
    }
}

impl fmt::Display for RecordName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.parts() {
            (Some(store), name) => write!(f, "{} `{name}` in `{store}`", self.kind()),
            (None, name) => write!(f, "{} `{name}`", self.kind()),
        }
    }
}

impl FromStr for RecordName {
    type Err = NoRecordName;

    fn from_str(path: &str) -> Result<Self, NoRecordName> {
        let parts: Vec<_> = path.split('/').map(|part| part.replace("%2F", "/").replace("%25", "%")).collect();
        let language = |kind, name: &String| Self::Language { kind, name: name.clone() };
        let common = |kind, name: &String| Self::CommonName { kind, name: name.clone() };
        Ok(match &parts.iter().map(String::as_str).collect::<Vec<_>>()[..] {
            ["store", name] => Self::Store((*name).into()),
            ["nas", name] => Self::Nas((*name).into()),
            ["person", store, name] => Self::Person { store: (*store).into(), name: (*name).into() },
            ["machine", store, name] => Self::Machine { store: (*store).into(), name: (*name).into() },
            ["device", store, mac] => {
                Self::Device { store: (*store).into(), mac: mac.parse().map_err(|_| NoRecordName)? }
            }
            ["certificate", name] => Self::Certificate((*name).into()),
            ["trust", name] => Self::Trust((*name).into()),
            ["administrator", name] => Self::Administrator((*name).into()),
            ["secret", name] => Self::Secret((*name).into()),
            ["dictionary", _] => language(LanguageKind::Dictionary, &parts[1]),
            ["dialect", _] => language(LanguageKind::Dialect, &parts[1]),
            ["attribute", _] => language(LanguageKind::Attribute, &parts[1]),
            ["group", _] => common(CommonNameKind::Group, &parts[1]),
            ["site", _] => common(CommonNameKind::Site, &parts[1]),
            _ => return Err(NoRecordName),
        })
    }
}

/// A text that names no record.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error(
    "a record is named by its kind and name, such as nas/quay-sw-1, person/STORE/NAME or device/STORE/MAC; the kinds are \
     store, nas, person, machine, device, certificate, trust, administrator, secret, dictionary, dialect, attribute, group \
     and site"
)]
pub struct NoRecordName;

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_name_is_found_again_by_its_path(store: String, name: String, mac: [u8; 6]) {
            let language = |kind| RecordName::Language { kind, name: name.clone() };
            let common = |kind| RecordName::CommonName { kind, name: name.clone() };
            for record in [
                RecordName::Store(name.clone()),
                RecordName::Nas(name.clone()),
                RecordName::Person { store: store.clone(), name: name.clone() },
                RecordName::Machine { store: store.clone(), name: name.clone() },
                RecordName::Device { store, mac: Mac(mac) },
                RecordName::Certificate(name.clone()),
                RecordName::Trust(name.clone()),
                RecordName::Administrator(name.clone()),
                RecordName::Secret(name.clone()),
                language(LanguageKind::Dictionary),
                language(LanguageKind::Dialect),
                language(LanguageKind::Attribute),
                common(CommonNameKind::Group),
                common(CommonNameKind::Site),
            ] {
                prop_assert_eq!(record.path().parse::<RecordName>().unwrap(), record);
            }
        }

        #[test]
        fn any_text_is_a_name_or_an_error(text: String) {
            if let Ok(name) = text.parse::<RecordName>() {
                prop_assert_eq!(name.path().parse::<RecordName>().unwrap(), name);
            }
        }
    }
}
