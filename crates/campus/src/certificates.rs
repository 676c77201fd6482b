//! The harbour's certificates: its authority, the service's own, and those of
//! its crew and machines, good and bad.

use regnant_certificates::{Authority, AuthorityError, Bundle, BundleError, Issued, Order, Purpose, read_certificates};
use regnant_eap::{ClientTls, ClientTlsError, TlsVersion};
use thiserror::Error;

/// The name in the service's certificate.
pub const SERVER: &str = "radius.tarnmouth.example";
/// The trust that the harbour's policy names.
pub const TRUST: &str = "tarnmouth-authority";

/// What the port's directory and its asset register present, by the name of its files.
pub const OUTSIDE: &str = "outside";

const DAY: i64 = 86_400;
const REVOKED: u64 = 66;

/// Certificates and keys in PEM, as they lie in a folder.
#[derive(Clone, Debug)]
pub struct DemoCertificates {
    files: Vec<(String, String)>,
}

impl DemoCertificates {
    /// Issues everything, valid from `now` (seconds since 1970).
    pub fn issue(now: i64) -> Result<Self, AuthorityError> {
        let authority = Authority::new("Tarnmouth Demo Root", now - 90 * DAY)?;
        let order = |common_name: &str, dns: &[&str], upn: &[&str], purpose, serial| Order {
            common_name: common_name.into(),
            dns: dns.iter().map(|name| (*name).to_owned()).collect(),
            upn: upn.iter().map(|name| (*name).to_owned()).collect(),
            purpose,
            not_before: now - DAY,
            not_after: now + 365 * DAY,
            serial,
            ocsp: None,
        };
        let tom = |serial| order("tom.reed", &[], &["tom.reed@tarnmouth.example"], Purpose::Client, serial);
        let expired = Order { not_before: now - 60 * DAY, not_after: now - 3 * DAY, ..tom(65) };
        let laptop = ["quay-laptop-7.tarnmouth.example"];
        let issued = [
            ("server", authority.issue(&order(SERVER, &[SERVER], &[], Purpose::Server, 1))?),
            (
                "ida.marsh",
                authority.issue(&order("ida.marsh", &[], &["ida.marsh@tarnmouth.example"], Purpose::Client, 2))?,
            ),
            ("quay-laptop-7", authority.issue(&order("quay-laptop-7", &laptop, &[], Purpose::Client, 3))?),
            ("expired", authority.issue(&expired)?),
            ("revoked", authority.issue(&tom(REVOKED))?),
            (OUTSIDE, authority.issue(&order("localhost", &["localhost"], &[], Purpose::Server, 4))?),
        ];
        let mut files = vec![
            ("authority.pem".to_owned(), authority.certificate().to_owned()),
            ("authority.key".to_owned(), authority.key().to_owned()),
            ("revoked.crl.pem".to_owned(), authority.revoke(&[REVOKED], now - DAY, now + 3_650 * DAY)?),
        ];
        // An authority that nobody here believes, for a supplicant that trusts it.
        let stranger = Authority::new("Another Harbour Root", now - 90 * DAY)?;
        files.push(("stranger.pem".to_owned(), stranger.certificate().to_owned()));
        for (name, Issued { certificate, key }) in issued {
            files.push((format!("{name}.pem"), certificate));
            files.push((format!("{name}.key"), key));
        }
        Ok(Self { files })
    }

    /// What was kept in files, by name.
    pub fn from_files(files: impl IntoIterator<Item = (String, String)>) -> Self {
        Self { files: files.into_iter().collect() }
    }

    /// Every file with its name.
    pub fn files(&self) -> &[(String, String)] {
        &self.files
    }

    /// One file; empty where there is none.
    pub fn file(&self, name: &str) -> &str {
        self.files.iter().find(|(known, _)| known == name).map_or("", |(_, text)| text)
    }

    /// A supplicant that trusts the authority of this file and, with `own`, has
    /// the certificate of that name.
    pub fn client(
        &self,
        authority: &str,
        own: Option<&str>,
        only: Option<TlsVersion>,
    ) -> Result<ClientTls, DemoCertificatesError> {
        let authorities = read_certificates(self.file(authority))?;
        let own = own.map(|name| {
            Bundle::from_pem(&format!("{}{}", self.file(&format!("{name}.pem")), self.file(&format!("{name}.key"))))
        });
        let own = own.transpose()?;
        let own = own.as_ref().and_then(|own| Some((&own.chain[..], own.key.as_ref()?.expose())));
        Ok(ClientTls::new(&authorities, SERVER, own, only)?)
    }
}

/// Why certificates cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum DemoCertificatesError {
    /// A file.
    #[error(transparent)]
    Bundle(#[from] BundleError),
    /// The supplicant's side.
    #[error(transparent)]
    Client(#[from] ClientTlsError),
}
