//! The station of an EAP conversation.

use regnant_eap::{IdentityType, InnerOutcome, Kind};

use crate::record::handshake::Handshake;
use crate::record::trail::{Clue, Mark, Station};
use crate::record::{EndRecord, Record};
use crate::time::day;
use regnant_decision::{CertificateEvidence, EapEvidence, InnerEvidence, TlsEvidence};

impl Record {
    pub(super) fn conversation(&self, eap: &EapEvidence) -> Station {
        let mut station = match self.end() {
            EndRecord::Eap(failure) => {
                let mut station = Self::station("conversation", Mark::Stopped, Handshake(eap).explanation(failure));
                station.advice = Some(Handshake(eap).advice(failure));
                station
            }
            EndRecord::Abandoned => {
                let (line, advice) = Handshake(eap).silence();
                let mut station = Self::station("conversation", Mark::Stopped, format!("{line}."));
                station.advice = Some(advice.into());
                station
            }
            _ => Self::station("conversation", Mark::Passed, format!("{}.", summary(eap))),
        };
        station.micros = eap.rounds.last().map(|round| round.at + round.took);
        station.evidence = evidence(eap);
        let differs = self.fact("claimed.realm-differs") == Some("true");
        if let (true, None) = (differs, &station.advice) {
            station.advice = Some(
                "The identity outside the tunnel names another realm than the one inside: where realms decide which \
                 server is asked, somebody may be using the wrong one."
                    .into(),
            );
        }
        station
    }
}

fn summary(eap: &EapEvidence) -> String {
    let version = eap.tls.as_ref().and_then(|tls| tls.version);
    let inner: Vec<_> = eap.inner.iter().map(|inner| inner.method.as_str()).collect();
    let resumed = eap.tls.as_ref().is_some_and(|tls| tls.resumed);
    let took = eap.rounds.last().map_or(0, |round| round.at + round.took);
    let mut line = eap.method.map_or_else(|| "no method".into(), |method| method.to_string());
    if let Some(version) = version {
        line += &format!(" over {version}");
    }
    if !inner.is_empty() {
        line += &format!(" with {} inside", inner.join(" and "));
    }
    if resumed {
        line += ", resumed";
    }
    line + &format!(", {} rounds in {}.{} ms", eap.rounds.len(), took / 1_000, took / 100 % 10)
}

fn evidence(eap: &EapEvidence) -> Vec<Clue> {
    let mut list = Vec::new();
    let mut tell = |label: &str, value: String| list.push(Clue::new(label, value));
    if let Some(outer) = &eap.outer {
        tell("identity outside the tunnel", outer.clone());
    }
    for (method, wanted) in &eap.turned_down {
        tell(
            "turned down",
            format!("{method}; it wants {}", wanted.iter().map(Kind::to_string).collect::<Vec<_>>().join(" or ")),
        );
    }
    if let Some(method) = &eap.method {
        tell("method", method.to_string());
    }
    if let Some((subject, issuer)) = &eap.presented {
        tell("our certificate", format!("{subject}, issued by {issuer}"));
    }
    if let Some(tls) = &eap.tls {
        tell_tls(&mut tell, "", tls);
    }
    for (certificate, answer) in &eap.asked {
        tell("asked the issuer", format!("{certificate}: {answer}"));
    }
    for inner in &eap.inner {
        tell_inner(&mut tell, inner);
    }
    if let Some(bound) = eap.bound {
        tell("bound to the tunnel", if bound { "yes, proved by both ends" } else { "no" }.into());
    }
    if eap.keys {
        tell("keys", "sent to the equipment".into());
    }
    for (number, round) in eap.rounds.iter().enumerate() {
        let ignored = round.ignored.as_ref().map(|why| format!(", ignored: {why}")).unwrap_or_default();
        let label = format!("round {} at {}.{} ms", number + 1, round.at / 1_000, round.at / 100 % 10);
        let value = format!("{} bytes in, {} out, {} \u{b5}s{ignored}", round.received, round.sent, round.took);
        tell(&label, value);
    }
    list
}

fn tell_tls(tell: &mut impl FnMut(&str, String), prefix: &str, tls: &TlsEvidence) {
    let parts: Vec<_> = [tls.version.map(|version| version.to_string()), tls.group.clone(), tls.suite.clone()]
        .into_iter()
        .flatten()
        .collect();
    let kind = if tls.resumed { "resumed session" } else { "full handshake" };
    tell(&format!("{prefix}TLS"), [parts, vec![kind.into()]].concat().join(", "));
    for (place, certificate) in tls.certificates.iter().enumerate() {
        let label = if place == 0 { "certificate" } else { "issued by" };
        tell(&format!("{prefix}{label}"), show(certificate));
    }
}

fn tell_inner(tell: &mut impl FnMut(&str, String), inner: &InnerEvidence) {
    let who = match inner.identity {
        Some(IdentityType::User) => "user ",
        Some(IdentityType::Machine) => "machine ",
        None => "",
    };
    let name = inner.name.as_deref().unwrap_or("no name");
    let outcome = match inner.outcome {
        InnerOutcome::Open => "not finished",
        InnerOutcome::Proved => "proved",
        InnerOutcome::Failed => "failed",
    };
    tell("inside the tunnel", format!("{who}{name} by {}: {outcome}", inner.method));
    if let Some(tls) = &inner.tls {
        tell_tls(tell, "inner ", tls);
    }
}

fn show(certificate: &CertificateEvidence) -> String {
    let names = match certificate.names.is_empty() {
        true => String::new(),
        false => format!(" ({})", certificate.names.join(", ")),
    };
    format!(
        "{}{names}, issued by {}, {} to {}, serial {}",
        certificate.subject,
        certificate.issuer,
        day(certificate.not_before),
        day(certificate.not_after),
        certificate.serial
    )
}
