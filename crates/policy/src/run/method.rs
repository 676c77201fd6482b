//! How identities may be proved, and which kinds there are.

use serde::{Deserialize, Serialize};

use crate::schema::Checks;

/// How an identity may be proved.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Method {
    /// A password (RFC 2865 section 5.2).
    Pap,
    /// A challenge (RFC 2865 section 5.3).
    Chap,
    /// MS-CHAP (RFC 2433), in the attributes of RFC 2548.
    MsChap,
    /// MS-CHAP version 2 (RFC 2759), in the same.
    MsChapV2,
    /// A MAC address alone.
    Mac,
    /// EAP-MD5 (RFC 3748 section 5.4).
    EapMd5,
    /// EAP-GTC (RFC 3748 section 5.6).
    EapGtc,
    /// EAP-MSCHAPv2.
    EapMsChapV2,
    /// EAP-TLS (RFC 5216, RFC 9190).
    EapTls,
    /// PEAP.
    Peap,
    /// EAP-TTLS (RFC 5281).
    Ttls,
    /// TEAP (RFC 7170, RFC 9930).
    Teap,
}

impl Method {
    /// All methods with their words in Writ.
    pub const ALL: [(&'static str, Self); 12] = [
        ("pap", Self::Pap),
        ("chap", Self::Chap),
        ("mschap", Self::MsChap),
        ("mschapv2", Self::MsChapV2),
        ("mac", Self::Mac),
        ("eap-md5", Self::EapMd5),
        ("eap-gtc", Self::EapGtc),
        ("eap-mschapv2", Self::EapMsChapV2),
        ("eap-tls", Self::EapTls),
        ("peap", Self::Peap),
        ("ttls", Self::Ttls),
        ("teap", Self::Teap),
    ];

    /// The word in Writ.
    pub fn word(self) -> &'static str {
        Self::ALL[self as usize].0
    }

    /// Whether it goes over EAP.
    pub fn is_eap(self) -> bool {
        !matches!(self, Self::Pap | Self::Chap | Self::MsChap | Self::MsChapV2 | Self::Mac)
    }

    /// Whether other methods go inside.
    pub fn is_tunnel(self) -> bool {
        matches!(self, Self::Peap | Self::Ttls | Self::Teap)
    }

    /// Whether it needs a certificate of ours.
    pub fn needs_certificate(self) -> bool {
        self.is_tunnel() || self == Self::EapTls
    }

    /// What may go inside a tunnel.
    pub fn inner(self) -> &'static [Inner] {
        use Inner::{Chap, EapGtc, EapMd5, EapMsChapV2, EapTls, MsChap, MsChapV2, Pap, Password};
        match self {
            Self::Peap => &[EapMsChapV2, EapGtc, EapTls],
            Self::Ttls => &[Pap, Chap, MsChap, MsChapV2, EapMd5, EapGtc, EapMsChapV2, EapTls],
            Self::Teap => &[EapTls, EapMsChapV2, Password],
            _ => &[],
        }
    }
}

/// A method inside a tunnel.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Inner {
    /// The password itself (RFC 5281 section 11.2.5).
    Pap,
    /// CHAP (RFC 5281 section 11.2.2).
    Chap,
    /// MS-CHAP (RFC 5281 section 11.2.3).
    MsChap,
    /// MS-CHAP version 2 (RFC 5281 section 11.2.4).
    MsChapV2,
    /// A password without an inner EAP method (RFC 7170 section 3.3.2).
    Password,
    /// EAP-MD5.
    EapMd5,
    /// EAP-GTC.
    EapGtc,
    /// EAP-MSCHAPv2.
    EapMsChapV2,
    /// EAP-TLS.
    EapTls,
}

impl Inner {
    /// All inner methods with their words in Writ.
    pub const ALL: [(&'static str, Self); 9] = [
        ("pap", Self::Pap),
        ("chap", Self::Chap),
        ("mschap", Self::MsChap),
        ("mschapv2", Self::MsChapV2),
        ("password", Self::Password),
        ("eap-md5", Self::EapMd5),
        ("eap-gtc", Self::EapGtc),
        ("eap-mschapv2", Self::EapMsChapV2),
        ("eap-tls", Self::EapTls),
    ];

    /// The word in Writ.
    pub fn word(self) -> &'static str {
        Self::ALL[self as usize].0
    }
}

/// A method that a gate accepts, with what may go inside.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Accepted {
    /// The method.
    pub method: Method,
    /// What may go inside, in the order offered; empty where it is no tunnel.
    pub inner: Vec<Inner>,
    /// Whether the peer must prove that tunnel and inner method belong together
    /// where the method leaves that to it: PEAP.
    pub bound: bool,
}

/// What clients send of a credential, and whether a store can check that.
type Checked = (&'static str, fn(&Checks) -> bool);

const PASSWORD: Checked = ("passwords", |checks| checks.passwords);
const MS_CHAP: Checked = ("responses of MS-CHAP", |checks| checks.mschap);
const CHALLENGE: Checked = ("responses of CHAP or EAP-MD5", |checks| checks.challenges);

impl Method {
    /// What a store has to check of it, where one has.
    pub(crate) fn credential(self) -> Option<Checked> {
        match self {
            Self::Pap | Self::EapGtc => Some(PASSWORD),
            Self::MsChap | Self::MsChapV2 | Self::EapMsChapV2 => Some(MS_CHAP),
            Self::Chap | Self::EapMd5 => Some(CHALLENGE),
            Self::Mac | Self::EapTls | Self::Peap | Self::Ttls | Self::Teap => None,
        }
    }
}

impl Inner {
    /// What a store has to check of it, where one has.
    pub(crate) fn credential(self) -> Option<Checked> {
        match self {
            Self::Pap | Self::Password | Self::EapGtc => Some(PASSWORD),
            Self::MsChap | Self::MsChapV2 | Self::EapMsChapV2 => Some(MS_CHAP),
            Self::Chap | Self::EapMd5 => Some(CHALLENGE),
            Self::EapTls => None,
        }
    }
}

impl Accepted {
    /// As it is written: `peap(eap-mschapv2)`.
    pub fn show(&self) -> String {
        let inner: Vec<_> = self.inner.iter().map(|inner| inner.word()).collect();
        match inner.is_empty() {
            true => self.method.word().to_owned(),
            false => {
                format!("{}({}){}", self.method.word(), inner.join(", "), if self.bound { " bound" } else { "" })
            }
        }
    }

    /// Whether one of these accepts a proof by a method, of this word, with these inside.
    pub fn any_of<'w>(
        accept: &[Self],
        method: &str,
        inner: impl Iterator<Item = &'w str> + Clone,
        bound: bool,
    ) -> bool {
        accept.iter().filter(|accepted| accepted.method.word() == method).any(|accepted| {
            let known = |word: &str| accepted.inner.iter().any(|known| known.word() == word);
            inner.clone().all(known) && (bound || !accepted.bound)
        })
    }

    /// Whether a client proves itself by certificate.
    pub fn needs_trust(&self) -> bool {
        self.method == Method::EapTls || self.inner.contains(&Inner::EapTls)
    }
}

/// What kind of identity a clause is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub enum IdentityKind {
    /// A person.
    User,
    /// A machine that proves itself, with a certificate or a password.
    Machine,
    /// A device by its MAC address.
    Mac,
}

impl IdentityKind {
    /// All kinds with their words in Writ.
    pub const ALL: [(&'static str, Self); 3] = [("user", Self::User), ("machine", Self::Machine), ("mac", Self::Mac)];

    /// The word in Writ.
    pub fn word(self) -> &'static str {
        Self::ALL[self as usize].0
    }
}

/// The places in a certificate that may name somebody (RFC 5280 section 4.2.1.6).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum CertificateName {
    /// A user principal name.
    SanUpn,
    /// A mail address.
    SanEmail,
    /// A DNS name.
    SanDns,
    /// The subject's common name.
    SubjectCn,
}

impl CertificateName {
    /// All places with their words in Writ.
    pub const ALL: [(&'static str, Self); 4] = [
        ("san-upn", Self::SanUpn),
        ("san-email", Self::SanEmail),
        ("san-dns", Self::SanDns),
        ("subject-cn", Self::SubjectCn),
    ];

    /// The word in Writ.
    pub fn word(self) -> &'static str {
        Self::ALL[self as usize].0
    }
}

/// Whose certificates a gate believes, and how it reads them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TrustClause {
    /// The record of authorities and revocation lists.
    pub name: String,
    /// Where names are looked for, in this order; the first that a certificate
    /// has says whether it names a machine or a user, and which.
    pub names: Vec<(IdentityKind, CertificateName)>,
    /// How revocation is judged; not at all where none.
    pub revocation: Option<Revocation>,
}

/// How a gate judges revocation.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Revocation {
    /// Who is asked, in this order; the first that knows decides.
    pub sources: Vec<RevocationSource>,
    /// Whether a certificate passes about which nobody can say anything.
    pub unreachable_passes: bool,
}

/// Who knows what was revoked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RevocationSource {
    /// The issuer's list (RFC 5280 section 5).
    Crl,
    /// The issuer's responder (RFC 6960).
    Ocsp,
}

impl RevocationSource {
    /// All sources with their words in Writ.
    pub const ALL: [(&'static str, Self); 2] = [("crl", Self::Crl), ("ocsp", Self::Ocsp)];
}
