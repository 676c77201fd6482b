//! What changes by itself: revocation lists that their issuers renew, responses
//! about our own certificates, and certificates that come to their end.

use std::collections::HashSet;
use std::time::Duration;

use regnant_certificates::{read_certificates, read_crls};
use regnant_eap::{Certificate, Judgement, Standing, Trust};
use regnant_outside::Never;
use regnant_records::{CertificateRow, TrustRow};

use crate::administration::AdministrationError;
use crate::administration::certificates::{Certificates, LinkReport};
use crate::administration::downloads::Download;
use crate::administration::fetching::{agent, came};
use crate::administration::issuers::{ask, responder};
use crate::administration::revocation_lists::freshest;
use crate::clock::now_ms;

/// A list larger than this is not taken.
const MOST_BYTES: u64 = 16 << 20;
const PATIENCE: Duration = Duration::from_secs(20);
const LONGEST_PAUSE: u64 = 3_600;
const SHORTEST_PAUSE: u64 = 60;

impl Certificates {
    /// Fetches what is to be fetched and tells the log of what comes to its end;
    /// gives the time until it should be done again.
    pub(crate) fn look_after(&self, told: &mut HashSet<(String, i64)>) -> Result<Duration, AdministrationError> {
        let ended = self.committer.environment.staples.drop_ended(now_ms() / 1_000);
        let (lists, staples) = (self.fetch_lists()?, self.fetch_staples()?);
        if ended || lists || staples {
            self.committer.count_what_was_fetched();
        }
        self.tell_of_endings(told)?;
        let left = self.committer.environment.staples.first_end().map(|end| end.saturating_sub(now_ms() / 1_000));
        // Half of its time is left for trying again.
        let pause = left.map_or(LONGEST_PAUSE, |left| (left / 2).clamp(SHORTEST_PAUSE, LONGEST_PAUSE));
        Ok(Duration::from_secs(pause))
    }

    /// Fetches the revocation list of every trust that says from where; `true`
    /// where one is new.
    fn fetch_lists(&self) -> Result<bool, AdministrationError> {
        let trusts = self.trusts()?;
        Ok(trusts.iter().fold(false, |new, trust| self.fetch_list(trust) | new))
    }

    /// The same for one trust.
    pub(crate) fn fetch_list(&self, trust: &TrustRow) -> bool {
        let Some(url) = &trust.crl_url else { return false };
        let authorities = read_certificates(&trust.authorities).unwrap_or_default();
        let came = fetch(&self.committer.environment.never, url, &authorities);
        if let Err(trouble) = &came {
            tracing::warn!("the revocation list of trust {} cannot be fetched from {url}: {trouble}", trust.name);
        }
        let new = self
            .committer
            .environment
            .lists
            .keep(&trust.name, came.clone().map(|bytes| Download { bytes, until: None }));
        if let (true, Ok(bytes)) = (new, &came)
            && let Err(error) = self.committer.environment.list_file.keep(&trust.name, bytes, now_ms())
        {
            tracing::warn!(
                "the revocation list of trust {} is in force until the next start only: {error}",
                trust.name
            );
        }
        new
    }

    /// Asks for a response about each certificate of ours that names a responder,
    /// to be presented with it (RFC 6961 and RFC 8446 section 4.4.2.1); `true`
    /// where one is new.
    fn fetch_staples(&self) -> Result<bool, AdministrationError> {
        let mut new = false;
        for row in self.rows()? {
            new |= self.fetch_staple(&row)?;
        }
        Ok(new)
    }

    /// The same for one certificate.
    pub(crate) fn fetch_staple(&self, row: &CertificateRow) -> Result<bool, AdministrationError> {
        let chain = read_certificates(&row.chain).unwrap_or_default();
        let Some(Ok(url)) = chain.first().map(|own| responder(own, None)) else { return Ok(false) };
        let came = staple(&self.committer.environment.never, &url, &chain, &self.trusts()?);
        if let Err(trouble) = &came {
            tracing::warn!("there is no OCSP response to present with certificate {}: {trouble}", row.name);
        }
        Ok(self.committer.environment.staples.keep(&staple_name(row), came))
    }

    /// Tells the log of what comes to its end, once for each of 30, 14, 7 and 1
    /// days before.
    fn tell_of_endings(&self, told: &mut HashSet<(String, i64)>) -> Result<(), AdministrationError> {
        let report = self.report()?;
        let ours = report.certificates.into_iter().flat_map(|certificate| certificate.chain);
        let theirs = report.trusts.iter().flat_map(|trust| trust.authorities.clone());
        let links = ours.chain(theirs).filter_map(|link| Some((ending(&link)?, link.fingerprint)));
        let lists = report.trusts.iter().flat_map(|trust| freshest(&trust.revocation_lists));
        let lists = lists.filter_map(|list| Some((list.ending()?, format!("{} {:?}", list.issuer, list.next_update))));
        for ((mark, text), what) in links.chain(lists) {
            if told.insert((what, mark)) {
                tracing::warn!("{text}");
            }
        }
        Ok(())
    }
}

/// What a response is kept under: a certificate that is replaced under its name
/// needs another.
pub(crate) fn staple_name(row: &CertificateRow) -> String {
    let own = read_certificates(&row.chain).unwrap_or_default();
    let read = own.first().and_then(|der| Certificate::read(der).ok());
    read.map(|read| read.fingerprint).unwrap_or_default()
}

fn ending(link: &LinkReport) -> Option<(i64, String)> {
    if link.not_after * 1_000 <= now_ms() as i64 {
        return Some((0, format!("the certificate {} has expired", link.subject)));
    }
    crate::administration::certificates::warning(link)
}

/// One list, in DER or PEM, which one of the authorities must have signed.
fn fetch(never: &Never, url: &str, authorities: &[Vec<u8>]) -> Result<Vec<u8>, String> {
    let mut answer = came(agent(never, PATIENCE).get(url).call())?;
    let bytes = answer.body_mut().with_config().limit(MOST_BYTES).read_to_vec().map_err(|error| error.to_string())?;
    let der = match std::str::from_utf8(&bytes).map(read_crls) {
        Ok(Ok(mut lists)) if !lists.is_empty() => lists.swap_remove(0),
        _ => bytes,
    };
    let trust = Trust::whatever(authorities, std::slice::from_ref(&der), Judgement::default());
    trust.map(|_| der).map_err(|error| error.to_string())
}

/// A response that says that our certificate is good.
fn staple(never: &Never, url: &str, chain: &[Vec<u8>], trusts: &[TrustRow]) -> Result<Download, String> {
    let own = &chain[0];
    let issuer = issuer_of(chain, trusts)
        .ok_or("its issuer's certificate is not known here; import it behind the certificate")?;
    let (bytes, answer) = ask(never, url, own, &issuer)?;
    match answer.standing {
        Standing::Good => Ok(Download { bytes, until: Some(answer.until) }),
        Standing::Unknown => Err(format!("{url}: the responder does not know it")),
        Standing::Revoked => Err(format!("{url}: it was revoked; replace it, supplicants may reject it")),
    }
}

/// The issuer's certificate: the next of the chain, or an authority that somebody
/// trusts.
fn issuer_of(chain: &[Vec<u8>], trusts: &[TrustRow]) -> Option<Vec<u8>> {
    let wanted = Certificate::read(chain.first()?).ok()?.issuer;
    let authorities = trusts.iter().flat_map(|trust| read_certificates(&trust.authorities).unwrap_or_default());
    let mut all = chain.iter().skip(1).cloned().chain(authorities);
    all.find(|der| Certificate::read(der).is_ok_and(|read| read.subject == wanted))
}
