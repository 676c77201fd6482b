//! What changes by itself: revocation lists that their issuers renew, and
//! certificates that come to their end.

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use regnant_certificates::{read_certificates, read_crls};
use regnant_eap::{Judgement, Trust};

use crate::clock::now_ms;
use crate::office::certificates::LinkReport;
use crate::office::{Office, OfficeError};

/// A list larger than this is not taken.
const MOST_BYTES: u64 = 16 << 20;
const PATIENCE: Duration = Duration::from_secs(20);

/// Revocation lists as they were fetched last, by trust. What this node fetched,
/// not what somebody configured.
#[derive(Debug, Default)]
pub(crate) struct Fetched(Mutex<HashMap<String, Known>>);

#[derive(Clone, Debug, Default)]
struct Known {
    list: Option<Vec<u8>>,
    /// What went wrong the last time, where it did.
    trouble: Option<String>,
}

impl Fetched {
    /// The list of a trust.
    pub(crate) fn list(&self, trust: &str) -> Option<Vec<u8>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(trust)?.list.clone()
    }

    /// What went wrong the last time.
    pub(crate) fn trouble(&self, trust: &str) -> Option<String> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(trust)?.trouble.clone()
    }

    /// Keeps what came; `true` where it is new. A failure leaves the old list.
    fn keep(&self, trust: &str, came: Result<Vec<u8>, String>) -> bool {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let entry = known.entry(trust.to_owned()).or_default();
        match came {
            Ok(list) => {
                entry.trouble = None;
                entry.list.replace(list.clone()).is_none_or(|before| before != list)
            }
            Err(trouble) => {
                entry.trouble = Some(trouble);
                false
            }
        }
    }
}

impl Office {
    /// Fetches the revocation list of every trust that says from where.
    pub fn fetch_revocation_lists(&self) -> Result<(), OfficeError> {
        let mut changed = false;
        for trust in self.records.trusts()? {
            let Some(url) = &trust.crl_url else { continue };
            let authorities = read_certificates(&trust.authorities).unwrap_or_default();
            let came = fetch(url, &authorities);
            if let Err(trouble) = &came {
                tracing::warn!("the revocation list of trust {} cannot be fetched from {url}: {trouble}", trust.name);
            }
            changed |= self.ground.fetched.keep(&trust.name, came);
        }
        if changed {
            let _turn = self.turn();
            let edition = self.world.load().setting.edition.clone();
            self.world.store(Arc::new(self.ground.world(&self.records, edition)?));
        }
        Ok(())
    }

    /// Tells the log of what comes to its end, once for each of 30, 14, 7 and 1
    /// days before.
    pub(crate) fn tell_of_endings(&self, told: &mut HashSet<(String, i64)>) -> Result<(), OfficeError> {
        let report = self.certificates()?;
        let ours = report.certificates.into_iter().flat_map(|certificate| certificate.chain);
        let theirs = report.trusts.into_iter().flat_map(|trust| trust.authorities);
        for link in ours.chain(theirs) {
            let Some((mark, text)) = ending(&link) else { continue };
            if told.insert((link.fingerprint, mark)) {
                tracing::warn!("{text}");
            }
        }
        Ok(())
    }
}

fn ending(link: &LinkReport) -> Option<(i64, String)> {
    if link.not_after * 1_000 <= now_ms() as i64 {
        return Some((0, format!("the certificate {} has expired", link.subject)));
    }
    crate::office::certificates::warning(link)
}

/// One list, in DER or PEM, which one of the authorities must have signed.
fn fetch(url: &str, authorities: &[Vec<u8>]) -> Result<Vec<u8>, String> {
    let config = ureq::Agent::config_builder().timeout_global(Some(PATIENCE)).build();
    let mut answer = ureq::Agent::from(config).get(url).call().map_err(|error| error.to_string())?;
    let bytes = answer.body_mut().with_config().limit(MOST_BYTES).read_to_vec().map_err(|error| error.to_string())?;
    let der = match std::str::from_utf8(&bytes).map(read_crls) {
        Ok(Ok(mut lists)) if !lists.is_empty() => lists.swap_remove(0),
        _ => bytes,
    };
    Trust::new(authorities, std::slice::from_ref(&der), Judgement::Always).map_err(|error| error.to_string())?;
    Ok(der)
}
