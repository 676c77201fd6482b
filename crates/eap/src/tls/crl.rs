//! Revocation lists (RFC 5280 section 5): who signed them, when they are in force,
//! and which certificates they speak of.

use webpki::{CertRevocationList, OwnedCertRevocationList};
use x509_parser::extensions::{DistributionPointName, X509Extension};
use x509_parser::prelude::{FromDer, ParsedExtension, X509Certificate};
use x509_parser::revocation_list::CertificateRevocationList;
use x509_parser::x509::X509Name;

use crate::tls::path::Link;
use crate::tls::revocation::Standing;
use crate::tls::trust::TrustError;

/// A revocation list whose signature was checked when it came, once for all
/// handshakes.
#[derive(Debug)]
pub(crate) struct List {
    read: CertRevocationList<'static>,
    /// The public keys of the authorities that signed it: it speaks of what they
    /// vouch for themselves, whoever else has their name.
    signers: Vec<Vec<u8>>,
    scope: Scope,
    /// Seconds since 1970 from which it is in force.
    this_update: i64,
    /// Seconds since 1970 until which it speaks, where it says so.
    next_update: Option<i64>,
}

/// Which certificates a list speaks of (RFC 5280 sections 5.2.5 and 6.3.3). Lists of
/// some reasons, of other issuers' certificates, of attribute certificates and of
/// changes alone are not read at all.
#[derive(Debug)]
struct Scope {
    users: bool,
    authorities: bool,
    /// Only certificates that name one of these points.
    points: Option<Vec<String>>,
}

impl List {
    /// Reads a list and checks that one of the authorities signed it.
    pub(crate) fn read(der: &[u8], authorities: &[Vec<u8>]) -> Result<Self, TrustError> {
        let unreadable = |reason: String| TrustError(format!("a revocation list cannot be read: {reason}"));
        let read = OwnedCertRevocationList::from_der(der)
            .map(CertRevocationList::from)
            .map_err(|error| unreadable(partial(&error)))?;
        let (_, list) = CertificateRevocationList::from_der(der).map_err(|error| unreadable(error.to_string()))?;
        let signers: Vec<_> = authorities
            .iter()
            .filter_map(|der| X509Certificate::from_der(der).ok())
            .filter(|(_, issuer)| {
                let may = issuer.key_usage().ok().flatten().is_none_or(|usage| usage.value.crl_sign());
                may && issuer.subject() == list.issuer() && list.verify_signature(issuer.public_key()).is_ok()
            })
            .map(|(_, issuer)| issuer.public_key().raw.to_vec())
            .collect();
        if signers.is_empty() {
            return Err(TrustError(format!(
                "the revocation list of `{}` was signed by none of the authorities; add its issuer to them",
                list.issuer()
            )));
        }
        Ok(Self {
            read,
            signers,
            scope: Scope::read(list.extensions(), list.issuer()).ok_or_else(|| unreadable("its scope".into()))?,
            this_update: list.last_update().timestamp(),
            next_update: list.next_update().map(|time| time.timestamp()),
        })
    }

    /// What it says of a certificate of a path, whose issuer has this key. A list that
    /// is too old may still tell of what was revoked, but not of what was not.
    pub(crate) fn says(&self, link: &Link, issuer_key: &[u8], now: i64) -> Result<Option<Standing>, webpki::Error> {
        let speaks = self.read.issuer() == link.issuer
            && self.signers.iter().any(|key| key == issuer_key)
            && self.scope.covers(link)
            && self.this_update <= now;
        if !speaks {
            return Ok(None);
        }
        Ok(match self.read.find_serial(&link.serial)? {
            Some(_) => Some(Standing::Revoked),
            None => self.next_update.is_none_or(|until| now <= until).then_some(Standing::Good),
        })
    }
}

impl Scope {
    fn read(extensions: &[X509Extension<'_>], issuer: &X509Name<'_>) -> Option<Self> {
        let mut scope = Self { users: true, authorities: true, points: None };
        for extension in extensions {
            match extension.parsed_extension() {
                ParsedExtension::IssuingDistributionPoint(point) => {
                    scope.users = !point.only_contains_ca_certs && !point.only_contains_attribute_certs;
                    scope.authorities = !point.only_contains_user_certs && !point.only_contains_attribute_certs;
                    scope.points = point.distribution_point.as_ref().map(|name| points(name, issuer));
                }
                ParsedExtension::ParseError { .. } => return None,
                _ => {}
            }
        }
        Some(scope)
    }

    fn covers(&self, link: &Link) -> bool {
        let kind = if link.is_authority { self.authorities } else { self.users };
        let named = || match &self.points {
            None => true,
            Some(points) => link.points.iter().any(|point| points.contains(point)),
        };
        kind && named()
    }
}

/// The names of a distribution point, each as text that is equal where the names are.
pub(crate) fn points(name: &DistributionPointName<'_>, issuer: &X509Name<'_>) -> Vec<String> {
    match name {
        DistributionPointName::FullName(names) => names.iter().map(std::string::ToString::to_string).collect(),
        // Relative to the issuer, who is the same for both.
        DistributionPointName::NameRelativeToCRLIssuer(name) => vec![format!("{issuer}/{name:?}")],
    }
}

/// Why the library does not read a list, for whoever brings it.
fn partial(error: &webpki::Error) -> String {
    use webpki::Error as E;
    match error {
        E::UnsupportedDeltaCrl => "it only tells what changed since another; bring the whole list".into(),
        E::UnsupportedIndirectCrl => "it speaks of other issuers' certificates; bring each issuer's own list".into(),
        E::UnsupportedRevocationReasonsPartitioning | E::UnsupportedRevocationReason => {
            "it speaks of some reasons only; bring the whole list".into()
        }
        other => other.to_string(),
    }
}
