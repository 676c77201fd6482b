//! Certificates that we present and authorities that we trust: bringing them,
//! asking for them, and what is odd about them.

use std::collections::BTreeMap;
use std::sync::Arc;

use regnant_base::SecretText;
use regnant_certificates::{Bundle, SigningRequest, check_chain, read_certificates, read_crls, to_pem};
use regnant_eap::{Certificate, Judgement, ServerTls, Trust, is_authority};
use regnant_policy::{Gate, RevocationSource};
use regnant_radius::Secret;
use regnant_records::{Author, CertificateRow, Command, Reading, RecordName, StoreRow, TrustRow};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::committer::Committer;
use crate::administration::renewal::staple_name;
use crate::administration::revocation_lists::{ListReport, list_findings};
use crate::administration::{AdministrationError, RecordVersion, is_as_seen};
use crate::clock::now_ms;
use crate::outside_stores::OutsideSettings;

pub(crate) const DAY: i64 = 86_400;
/// Days before the end at which people are warned.
pub(crate) const WARNED_AT: [i64; 4] = [1, 7, 14, 30];

/// Everything about certificates.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct CertificatesReport {
    /// What we can present.
    pub certificates: Vec<CertificateReport>,
    /// Whom we trust.
    pub trusts: Vec<TrustReport>,
}

/// One certificate of ours.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct CertificateReport {
    /// Its name, as policies refer to it.
    pub name: String,
    /// Its ETag, for If-Match.
    #[serde(default)]
    pub etag: String,
    /// Whether its signing request still waits for an answer.
    pub pending: bool,
    /// Its chain, its own certificate first.
    pub chain: Vec<LinkReport>,
    /// The gates that present it.
    pub gates: Vec<String>,
    /// Seconds since 1970 until which the OCSP response counts that is presented
    /// with it; none where there is none.
    pub stapled_until: Option<i64>,
    /// What is odd about it, in sentences.
    pub findings: Vec<String>,
}

/// One certificate of a chain, or an authority.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct LinkReport {
    /// Its subject.
    pub subject: String,
    /// Who issued it.
    pub issuer: String,
    /// Its alternative names.
    pub names: Vec<String>,
    /// What it may be used for.
    pub usages: Vec<String>,
    /// Seconds since 1970.
    pub not_before: i64,
    /// Seconds since 1970.
    pub not_after: i64,
    /// Whole days until it ends; negative where it has ended.
    pub days_left: i64,
    /// SHA-256 over it, in hexadecimal.
    pub fingerprint: String,
}

/// Whom we trust.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct TrustReport {
    /// Its name, as policies refer to it.
    pub name: String,
    /// Its ETag, for If-Match.
    #[serde(default)]
    pub etag: String,
    /// The authorities.
    pub authorities: Vec<LinkReport>,
    /// Their revocation lists, from files and fetched.
    pub revocation_lists: Vec<ListReport>,
    /// Where a newer list is fetched from.
    pub crl_url: Option<String>,
    /// The responder that is asked in place of those that certificates name.
    pub ocsp_url: Option<String>,
    /// The gates that trust it.
    pub gates: Vec<String>,
    /// What is odd about it, in sentences.
    pub findings: Vec<String>,
}

/// What is presented, and who is trusted.
pub struct Certificates {
    pub(crate) committer: Arc<Committer>,
}

impl Certificates {
    /// Everything about certificates.
    pub fn report(&self) -> Result<CertificatesReport, AdministrationError> {
        let now = (now_ms() / 1_000) as i64;
        let snapshot = self.committer.snapshot.load();
        let gates = snapshot.active.edition.policy.gates();
        let presenting = |name: &str| {
            let uses = gates.iter().filter(|gate| gate.present.as_deref() == Some(name));
            uses.map(|gate| gate.name.clone()).collect::<Vec<_>>()
        };
        let trusting = |name: &str| {
            let uses = gates.iter().filter(|gate| gate.trust.as_ref().is_some_and(|trust| trust.name == name));
            uses.collect::<Vec<_>>()
        };
        let certificates = self.rows()?.into_iter();
        let trusts = self.trusts()?.into_iter();
        Ok(CertificatesReport {
            certificates: certificates
                .map(|row| {
                    let mut report = certificate_report(&row, presenting(&row.name), now);
                    let staple = staple_name(&row);
                    let stapled = self.committer.environment.staples.current(&staple, now as u64);
                    report.stapled_until = stapled.and_then(|came| came.until).map(|until| until as i64);
                    let trouble = self.committer.environment.staples.trouble(&staple);
                    report.findings.extend(trouble.map(|why| format!("No OCSP response is to be had for it: {why}.")));
                    report
                })
                .collect(),
            trusts: trusts
                .map(|row| {
                    let fetched = self.committer.environment.fetched_list(&row);
                    let mut report = trust_report(&row, fetched, &trusting(&row.name), now);
                    let trouble = self.committer.environment.lists.trouble(&row.name);
                    report.findings.extend(trouble.map(|why| format!("Its revocation list cannot be fetched: {why}.")));
                    report
                })
                .collect(),
        })
    }

    /// Keeps a certificate in PEM. Its key may be in it; where a signing request of
    /// this name waits, or one of this name is there, the key is there already. One that is
    /// there is as the author saw it.
    pub(crate) fn import_over(
        &self,
        name: &str,
        seen: Option<&RecordVersion>,
        pem: &str,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let row = self.import_pem(name, seen, pem, by)?;
        match self.fetch_staple(&row) {
            Ok(true) => self.committer.count_what_was_fetched(),
            Ok(false) => {}
            Err(error) => tracing::error!("the issuer's word on our certificate is not presented yet: {error}"),
        }
        Ok(())
    }

    /// The same, whatever is there.
    pub fn import(&self, name: &str, pem: &str, by: &Author) -> Result<(), AdministrationError> {
        self.import_over(name, None, pem, by)
    }

    fn import_pem(
        &self,
        name: &str,
        seen: Option<&RecordVersion>,
        pem: &str,
        by: &Author,
    ) -> Result<CertificateRow, AdministrationError> {
        let turn = self.committer.turn();
        named(name)?;
        let bundle = Bundle::from_pem(pem).map_err(|error| AdministrationError::Certificate(error.to_string()))?;
        let before = self.rows()?.into_iter().find(|row| row.name == name);
        is_as_seen(name, before.as_ref(), seen)?;
        let key = match (bundle.key, before) {
            (Some(key), _) => Secret::new(key.expose()),
            (None, Some(row)) => row.private_key(&self.committer.environment.key)?,
            (None, None) => {
                let text = "there is no private key in it, and no signing request of this name waits".to_owned();
                return Err(AdministrationError::Certificate(text));
            }
        };
        ServerTls::new(&bundle.chain, key.expose(), None, None)
            .map_err(|error| AdministrationError::Certificate(error.to_string()))?;
        let chain = to_pem("CERTIFICATE", &bundle.chain);
        let row = CertificateRow::new(name, chain, &key, &self.committer.environment.key);
        turn.commit(by, Command::SetCertificate(row.clone()))?;
        Ok(row)
    }

    /// Makes a key and a signing request for a certificate of this name. A
    /// certificate that is in use stays in use until its successor is imported.
    pub fn request(&self, name: &str, by: &Author) -> Result<String, AdministrationError> {
        let turn = self.committer.turn();
        named(name)?;
        let exists = self.rows()?.iter().any(|row| row.name == name);
        if exists {
            let text = format!("there is a certificate `{name}` already: ask for the next one under another name");
            return Err(AdministrationError::Certificate(text));
        }
        let request = SigningRequest::new(name).map_err(|error| AdministrationError::Certificate(error.to_string()))?;
        let key = Secret::new(request.key.expose());
        let row = CertificateRow::new(name, String::new(), &key, &self.committer.environment.key);
        turn.commit(by, Command::SetCertificate(row))?;
        Ok(request.pem)
    }

    /// Forgets a certificate with its key, which no gate presents, where it is as the author saw it.
    pub(crate) fn remove(
        &self,
        name: &str,
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let record = RecordName::Certificate(name.to_owned());
        if self.committer.environment.console_tls.as_ref().is_some_and(|tls| tls.wants(name)) {
            let by = "console and API present it, as the configuration says under [api]".to_owned();
            return Err(AdministrationError::InService { record, by });
        }
        self.forget(record, seen, |gate| gate.present.as_deref() == Some(name), by)
    }

    /// Forgets a trust that no gate has, where it is as the author saw it.
    pub(crate) fn remove_trust(
        &self,
        name: &str,
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let outside = self.committer.snapshot.load().outside.clone();
        if let Some(store) = outside.with_trust(name).next() {
            let by = format!("the servers of the store {store} are believed by it");
            return Err(AdministrationError::InService { record: RecordName::Trust(name.to_owned()), by });
        }
        let trusts = |gate: &Gate| gate.trust.as_ref().is_some_and(|trust| trust.name == name);
        self.forget(RecordName::Trust(name.to_owned()), seen, trusts, by)
    }

    fn forget(
        &self,
        record: RecordName,
        seen: Option<&RecordVersion>,
        needs: impl Fn(&Gate) -> bool,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let turn = self.committer.turn();
        let found = self.committer.records.find(&record)?;
        match (&found.certificates[..], &found.trusts[..]) {
            ([row], _) => is_as_seen(&row.name, Some(row), seen)?,
            (_, [row]) => is_as_seen(&row.name, Some(row), seen)?,
            _ => return Err(AdministrationError::NotFound(record)),
        }
        let active = self.committer.snapshot.load().active.edition.clone();
        let gates: Vec<_> =
            active.policy.gates().iter().filter(|gate| needs(gate)).map(|gate| gate.name.as_str()).collect();
        if !gates.is_empty() {
            let by = format!("the active policy names it in the gate {}", gates.join(", "));
            return Err(AdministrationError::InService { record, by });
        }
        turn.commit(by, Command::Remove(vec![record])).map(drop)
    }

    /// Keeps authorities and revocation lists, and tells which certificates it left
    /// out because they are no authorities'. Where it says from where a newer list is
    /// fetched, that is done at once. One that is there is as the author saw it.
    pub(crate) fn set_trust_over(
        &self,
        trust: &TrustRow,
        secrets: &BTreeMap<String, SecretText>,
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<Vec<String>, AdministrationError> {
        let (row, left_out) = self.keep_trust(trust, secrets, seen, by)?;
        if self.fetch_list(&row) {
            self.committer.count_what_was_fetched();
        }
        Ok(left_out)
    }

    /// The same, whatever is there.
    pub fn set_trust(&self, trust: &TrustRow, by: &Author) -> Result<Vec<String>, AdministrationError> {
        self.set_trust_over(trust, &BTreeMap::new(), None, by)
    }

    fn keep_trust(
        &self,
        trust: &TrustRow,
        secrets: &BTreeMap<String, SecretText>,
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<(TrustRow, Vec<String>), AdministrationError> {
        let turn = self.committer.turn();
        named(&trust.name)?;
        let before = self.trusts()?.into_iter().find(|row| row.name == trust.name);
        is_as_seen(&trust.name, before.as_ref(), seen)?;
        for (url, what) in [(&trust.crl_url, "a revocation list"), (&trust.ocsp_url, "a responder's answer")] {
            if url.as_ref().is_some_and(|url| !url.starts_with("http://")) {
                let text = format!("{what} is fetched from an address that begins with http://: it is signed itself");
                return Err(AdministrationError::Certificate(text));
            }
        }
        let wrong = |error: &dyn std::fmt::Display| AdministrationError::Certificate(error.to_string());
        let read = read_certificates(&trust.authorities).map_err(|error| wrong(&error))?;
        let (read, others): (Vec<_>, Vec<_>) = read.into_iter().partition(|der| trust.whatever || is_authority(der));
        let left_out: Vec<_> = others.iter().filter_map(|der| Some(Certificate::read(der).ok()?.subject)).collect();
        if read.is_empty() {
            let text = match left_out.first() {
                Some(subject) => format!(
                    "there is no authority in it: `{subject}` is a certificate of its own, and whoever holds its key could \
                     issue clients if it were trusted; bring its issuer's, or say that it may vouch all the same"
                ),
                None => "there is no authority in it".into(),
            };
            return Err(AdministrationError::Certificate(text));
        }
        if let Some(before) = &before {
            let known = read_certificates(&before.authorities).unwrap_or_default();
            if read.iter().any(|der| !known.contains(der)) {
                self.secrets_given(&trust.name, secrets)?;
            }
        }
        let lists = read_crls(&trust.crls).map_err(|error| wrong(&error))?;
        Trust::whatever(&read, &lists, Judgement::default()).map_err(|error| wrong(&error))?;
        let row =
            TrustRow { authorities: to_pem("CERTIFICATE", &read), crls: to_pem("X509 CRL", &lists), ..trust.clone() };
        turn.commit(by, Command::SetTrust(row.clone()))?;
        Ok((row, left_out))
    }

    /// Whether the secret was given of each store that is believed by a trust: it was given for those whom the
    /// authorities of then vouch for, and goes to whom others do from now on.
    fn secrets_given(&self, trust: &str, given: &BTreeMap<String, SecretText>) -> Result<(), AdministrationError> {
        let mut missing = Vec::new();
        for row in self.committer.records.all::<StoreRow>()? {
            let Some(Ok(settings)) = OutsideSettings::of(&row) else { continue };
            if settings.trust().is_none_or(|name| name != trust) {
                continue;
            }
            let Some(kept) = row.open_secret(&self.committer.environment.key)? else { continue };
            let given = given.get(&row.name).map(|secret| Secret::new(secret.expose().as_bytes()));
            if given.is_none_or(|given| given != kept) {
                missing.push(row.name);
            }
        }
        match missing.is_empty() {
            true => Ok(()),
            false => Err(AdministrationError::SecretsAnew { trust: trust.to_owned(), stores: missing }),
        }
    }

    /// Every certificate of ours, by name.
    pub(crate) fn rows(&self) -> Result<Vec<CertificateRow>, AdministrationError> {
        Ok(self.committer.records.all()?)
    }

    /// Every trust, by name.
    pub(crate) fn trusts(&self) -> Result<Vec<TrustRow>, AdministrationError> {
        Ok(self.committer.records.all()?)
    }
}

fn named(name: &str) -> Result<(), AdministrationError> {
    if name.trim().is_empty() || name.len() > 253 || name.chars().any(char::is_control) {
        return Err(AdministrationError::Certificate("a name has 1 to 253 printable bytes".into()));
    }
    Ok(())
}

fn certificate_report(row: &CertificateRow, gates: Vec<String>, now: i64) -> CertificateReport {
    let chain = read_certificates(&row.chain).unwrap_or_default();
    let pending = chain.is_empty();
    let mut report = CertificateReport {
        name: row.name.clone(),
        etag: RecordVersion::of(row).quoted(),
        pending,
        gates,
        ..CertificateReport::default()
    };
    if pending {
        report.findings.push("Its signing request waits: import the certificate that comes back.".into());
        return report;
    }
    report.findings = check_chain(&chain, now);
    report.chain = chain.iter().filter_map(|der| link(der, now)).collect();
    report.findings.extend(report.chain.iter().filter_map(warning).map(|(_, text)| text));
    report
}

fn trust_report(row: &TrustRow, fetched: Option<Vec<u8>>, gates: &[&Gate], now: i64) -> TrustReport {
    let authorities: Vec<_> =
        read_certificates(&row.authorities).unwrap_or_default().iter().filter_map(|der| link(der, now)).collect();
    let mut findings: Vec<String> = authorities.iter().filter_map(warning).map(|(_, text)| text).collect();
    findings.extend(
        authorities
            .iter()
            .filter(|authority| authority.days_left < 0)
            .map(|authority| format!("`{}` has expired: nobody whom it vouches for comes in.", authority.subject)),
    );
    let lists = read_crls(&row.crls).unwrap_or_default().into_iter().chain(fetched);
    let revocation_lists: Vec<_> = lists.filter_map(|der| ListReport::read(&der, now)).collect();
    let strict: Vec<_> = gates.iter().filter(|gate| needs_lists(gate)).map(|gate| gate.name.clone()).collect();
    findings.extend(list_findings(&authorities, &revocation_lists, &strict));
    TrustReport {
        name: row.name.clone(),
        etag: RecordVersion::of(row).quoted(),
        authorities,
        revocation_lists,
        crl_url: row.crl_url.clone(),
        ocsp_url: row.ocsp_url.clone(),
        gates: gates.iter().map(|gate| gate.name.clone()).collect(),
        findings,
    }
}

/// Whether a gate refuses certificates that no list tells about.
fn needs_lists(gate: &Gate) -> bool {
    let revocation = gate.trust.as_ref().and_then(|trust| trust.revocation.as_ref());
    revocation.is_some_and(|judged| judged.sources == [RevocationSource::Crl] && !judged.unreachable_passes)
}

fn link(der: &[u8], now: i64) -> Option<LinkReport> {
    let read = Certificate::read(der).ok()?;
    Some(LinkReport {
        names: [read.dns, read.upn, read.email].concat(),
        subject: read.subject,
        issuer: read.issuer,
        usages: read.usages,
        not_before: read.not_before,
        not_after: read.not_after,
        days_left: (read.not_after - now).div_euclid(DAY),
        fingerprint: read.fingerprint,
    })
}

/// A warning in the last 30 days.
pub(crate) fn warning(link: &LinkReport) -> Option<(i64, String)> {
    let within = WARNED_AT.iter().find(|days| (0..**days).contains(&link.days_left))?;
    let left = match link.days_left {
        0 => "today".to_owned(),
        1 => "tomorrow".to_owned(),
        days => format!("in {days} days"),
    };
    let weight = if *within <= 7 { "Renew it now" } else { "Renew it" };
    let text = format!("`{}` expires {left}. {weight}: afterwards nobody comes in by it.", link.subject);
    Some((*within, text))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn people_are_warned_in_the_last_thirty_days() {
        let link = |days_left| LinkReport { subject: "CN=x".into(), days_left, ..LinkReport::default() };
        let told = |days_left| warning(&link(days_left)).map(|(_, text)| text);
        assert_eq!(told(30), None);
        assert_eq!(told(-1), None);
        assert!(told(29).unwrap().contains("in 29 days. Renew it:"));
        assert!(told(6).unwrap().contains("in 6 days. Renew it now:"));
        assert!(told(0).unwrap().contains("expires today"));
    }
}
