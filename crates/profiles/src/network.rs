use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use sha2::{Digest, Sha256};
use thiserror::Error;

use crate::{apple, linux, passpoint, windows};

/// A network as a client must know it.
#[derive(Clone, Debug)]
pub struct Network {
    /// Its name, for people.
    pub title: String,
    /// The wireless network; a wired one where none.
    pub ssid: Option<String>,
    /// The name in the server's certificate.
    pub server: String,
    /// The authorities that the certificate may lead to, in DER.
    pub authorities: Vec<Vec<u8>>,
    /// How the client proves itself.
    pub method: Method,
    /// What it tells outside the tunnel.
    pub outer: String,
}

/// How a client proves itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Method {
    /// EAP-TLS.
    Tls,
    /// PEAP.
    Peap(Inner),
    /// EAP-TTLS.
    Ttls(Inner),
    /// TEAP.
    Teap(Inner),
}

/// What goes through the tunnel.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Inner {
    /// The password itself.
    Password,
    /// MS-CHAP version 2, bare or as EAP-MSCHAPv2.
    MsChapV2,
    /// EAP-GTC.
    Gtc,
    /// EAP-TLS.
    Tls,
}

/// What a profile is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Platform {
    /// A configuration profile (property list).
    Apple,
    /// A WLAN or LAN profile (XML).
    Windows,
    /// A wpa_supplicant configuration.
    WpaSupplicant,
    /// A NetworkManager connection (keyfile).
    NetworkManager,
    /// A Passpoint profile; wireless networks only.
    Android,
}

/// A profile to be handed out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Profile {
    /// A name for the file.
    pub file: String,
    /// Its media type.
    pub media_type: &'static str,
    /// Its text.
    pub text: String,
}

impl Platform {
    /// All platforms with their words.
    pub const ALL: [(&'static str, Self); 5] = [
        ("apple", Self::Apple),
        ("windows", Self::Windows),
        ("wpa-supplicant", Self::WpaSupplicant),
        ("network-manager", Self::NetworkManager),
        ("android", Self::Android),
    ];
}

impl Network {
    /// The profile of this network for a platform.
    pub fn profile(&self, platform: Platform) -> Result<Profile, ProfileError> {
        if self.authorities.is_empty() {
            return Err(ProfileError::NoAuthority);
        }
        match platform {
            Platform::Apple => apple::profile(self),
            Platform::Windows => windows::profile(self),
            Platform::WpaSupplicant => linux::wpa_supplicant(self),
            Platform::NetworkManager => linux::network_manager(self),
            Platform::Android => passpoint::profile(self),
        }
    }

    /// A name for files, from the network's.
    pub(crate) fn file(&self, ending: &str) -> String {
        let name = self.ssid.as_deref().unwrap_or(&self.title);
        let safe: String = name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
        format!("{}{ending}", safe.to_lowercase())
    }

    /// An identifier that stays the same for the same network, so that a newer
    /// profile takes the older one's place.
    pub(crate) fn uuid(&self, part: &str) -> String {
        let name = self.ssid.as_deref().unwrap_or(&self.title);
        let digest = Sha256::new()
            .chain_update(name)
            .chain_update([0])
            .chain_update(&self.server)
            .chain_update([0])
            .chain_update(part)
            .finalize();
        let hex: String = digest[..16].iter().map(|byte| format!("{byte:02X}")).collect();
        // Version 8: a name-based identifier of one's own (RFC 9562 section 5.8).
        format!("{}-{}-8{}-8{}-{}", &hex[..8], &hex[8..12], &hex[13..16], &hex[17..20], &hex[20..])
    }

    pub(crate) fn pem(&self) -> String {
        self.authorities
            .iter()
            .map(|der| {
                let text = STANDARD.encode(der);
                let lines: Vec<_> = text.as_bytes().chunks(64).map(String::from_utf8_lossy).collect();
                format!("-----BEGIN CERTIFICATE-----\n{}\n-----END CERTIFICATE-----\n", lines.join("\n"))
            })
            .collect()
    }
}

impl Method {
    /// The EAP type (IANA).
    pub(crate) fn number(self) -> u8 {
        match self {
            Self::Tls => 13,
            Self::Ttls(_) => 21,
            Self::Peap(_) => 25,
            Self::Teap(_) => 55,
        }
    }

    pub(crate) fn inner(self) -> Option<Inner> {
        match self {
            Self::Tls => None,
            Self::Peap(inner) | Self::Ttls(inner) | Self::Teap(inner) => Some(inner),
        }
    }
}

/// Why there is no such profile.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum ProfileError {
    /// Nothing to trust.
    #[error("no authority is known that the server's certificate leads to: import the certificate with those above it")]
    NoAuthority,
    /// The platform has no such method.
    #[error("{platform} cannot do {what}; choose another method of the gate")]
    NotThere {
        /// The platform.
        platform: &'static str,
        /// What it lacks.
        what: &'static str,
    },
    /// Text that cannot be written.
    #[error("the profile cannot be written: {0}")]
    Write(String),
}
