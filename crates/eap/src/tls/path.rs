use std::sync::{Arc, Mutex, PoisonError};

use regnant_base::BoundedMap;
use sha2::{Digest, Sha256};
use webpki::{Cert, VerifiedPath};
use x509_parser::prelude::{FromDer, ParsedExtension, X509Certificate};

use crate::certificate::{Certificate, Chain};
use crate::tls::crl::points;

/// Paths remembered at a time; the oldest go first.
const MOST: usize = 8_192;

/// A path from somebody's certificate to an authority, whose signatures, usages
/// and names were found to hold. These never change for as long as a trust is the
/// same; times and revocation do.
#[derive(Debug)]
pub(crate) struct Path {
    /// The certificates below the authority, the own one first.
    pub(crate) links: Vec<Link>,
    /// The authority's certificate in DER.
    pub(crate) authority: Vec<u8>,
    /// The authority's public key.
    authority_key: Vec<u8>,
    /// Seconds since 1970 between which all of them are valid, the authority too.
    from: i64,
    until: i64,
}

/// One certificate of a path.
#[derive(Debug)]
pub(crate) struct Link {
    /// In DER.
    pub(crate) certificate: Vec<u8>,
    /// Its SHA-256.
    pub(crate) fingerprint: [u8; 32],
    /// Its issuer's name, as revocation lists bear it.
    pub(crate) issuer: Vec<u8>,
    pub(crate) serial: Vec<u8>,
    /// Its public key.
    key: Vec<u8>,
    /// Whether it may vouch for others.
    pub(crate) is_authority: bool,
    /// The distribution points of revocation lists that it names.
    pub(crate) points: Vec<String>,
}

impl Path {
    /// What was verified just now; none where a certificate cannot be read again.
    pub(crate) fn new(verified: &VerifiedPath<'_>, authority: Vec<u8>) -> Option<Self> {
        let certificates = [&**verified.end_entity()].into_iter().chain(verified.intermediate_certificates());
        let links = certificates.map(Link::new).collect::<Option<Vec<_>>>()?;
        let (mut from, mut until) = (i64::MIN, i64::MAX);
        for der in links.iter().map(|link| &link.certificate).chain([&authority]) {
            let read = Certificate::read(der).ok()?;
            (from, until) = (from.max(read.not_before), until.min(read.not_after));
        }
        let authority_key = X509Certificate::from_der(&authority).ok()?.1.public_key().raw.to_vec();
        Some(Self { links, authority, authority_key, from, until })
    }

    /// Whether all of it is valid at this second since 1970.
    pub(crate) fn is_valid(&self, now: i64) -> bool {
        (self.from..=self.until).contains(&now)
    }

    /// The key of whoever issued the link at this place.
    pub(crate) fn issuer_key(&self, place: usize) -> &[u8] {
        self.links.get(place + 1).map_or(&self.authority_key, |issuer| &issuer.key)
    }
}

impl Link {
    fn new(certificate: &Cert<'_>) -> Option<Self> {
        let der = certificate.der().to_vec();
        let (_, read) = X509Certificate::from_der(&der).ok()?;
        let named = read.extensions().iter().filter_map(|extension| match extension.parsed_extension() {
            ParsedExtension::CRLDistributionPoints(list) => Some(list.iter()),
            _ => None,
        });
        let named = named.flatten().filter_map(|point| point.distribution_point.as_ref());
        let points = named.flat_map(|name| points(name, read.issuer())).collect();
        let (key, is_authority) = (read.public_key().raw.to_vec(), read.is_ca());
        Some(Self {
            fingerprint: Sha256::digest(&der).into(),
            certificate: der,
            issuer: certificate.issuer().to_vec(),
            serial: certificate.serial().to_vec(),
            key,
            is_authority,
            points,
        })
    }
}

/// Paths that held, by the whole chain that was presented: verifying signatures
/// again is most of what a handshake's judgement costs.
#[derive(Debug)]
pub(crate) struct Paths(Mutex<BoundedMap<Chain, Arc<Path>>>);

impl Default for Paths {
    fn default() -> Self {
        Self(Mutex::new(BoundedMap::new(MOST)))
    }
}

impl Paths {
    /// The path of this chain, where it is known and all of it valid now.
    pub(crate) fn find(&self, chain: &Chain, now: u64) -> Option<Arc<Path>> {
        let now = i64::try_from(now).ok()?;
        let inner = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        inner.get(chain).filter(|path| path.is_valid(now)).cloned()
    }

    /// The same chain as it was presented before, where it was: what it says need
    /// not be read again, nor kept twice.
    pub(crate) fn same(&self, chain: Chain) -> Chain {
        let inner = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        inner.get_key_value(&chain).map(|(known, _)| known.clone()).unwrap_or(chain)
    }

    pub(crate) fn keep(&self, chain: &Chain, path: Arc<Path>) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(chain.clone(), path);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_is_known_by_its_whole_chain_and_for_its_time_and_the_table_is_bounded() {
        let paths = Paths::default();
        let chain = |bytes: &[&[u8]]| Chain::new(bytes.iter().map(|der| der.to_vec()).collect());
        let path =
            Arc::new(Path { links: Vec::new(), authority: Vec::new(), authority_key: Vec::new(), from: 10, until: 20 });
        paths.keep(&chain(&[b"own", b"upper"]), path.clone());
        let found = |bytes: &[&[u8]], now| paths.find(&chain(bytes), now).is_some();
        assert!(found(&[b"own", b"upper"], 10) && found(&[b"own", b"upper"], 20));
        assert!(!found(&[b"own", b"upper"], 9) && !found(&[b"own", b"upper"], 21));
        assert!(!found(&[b"own"], 15) && !found(&[b"ownu", b"pper"], 15));
        let again = paths.same(chain(&[b"own", b"upper"]));
        assert!(std::ptr::eq(again.ders(), paths.same(chain(&[b"own", b"upper"])).ders()), "kept once");
        assert_eq!(paths.same(chain(&[b"other"])), chain(&[b"other"]));
        for number in 0..MOST {
            paths.keep(&chain(&[&number.to_be_bytes()]), path.clone());
        }
        assert!(!found(&[b"own", b"upper"], 15));
        assert_eq!(paths.0.lock().unwrap().len(), MOST);
    }
}
