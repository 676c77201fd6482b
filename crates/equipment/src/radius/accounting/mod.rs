//! Accounting (RFC 2866): what equipment reports of the access that it gives.
//!
//! [`accept_accounting`] turns a datagram into a report, and says what is sent once the report
//! is kept.

mod class;
mod report;

use std::net::SocketAddr;
use std::sync::Arc;

use regnant_evidence::{AccountingRecord, Cause, FoundDecision, KeptExchange, Report, Service};
use regnant_radius::{
    AccountingAuthenticator, Attributes, Builder, Code, OwnedPacket, Packet, SharedSecret, check_accounting_request,
    number,
};

use sha2::{Digest, Sha256};
use ulid::Ulid;

pub use class::DecisionClass;

use crate::nas::Nas;
use crate::radius::accept::{UNSIGNED, known, misdirected, signed_under, status_reply};
use crate::radius::credentials::{Credentials, Under};
use crate::radius::exchange::{PROTOCOL, kept_request};
use crate::radius::vocabulary::Vocabulary;

/// What came in on the accounting port.
#[derive(Clone, Debug)]
pub enum AcceptedAccounting {
    /// Status-Server, and the answer to it (RFC 5997 section 4.3).
    Status(Vec<u8>),
    /// A report.
    Report(AcceptedReport),
}

/// An Accounting-Request of a NAS that we know and that knows our secret.
#[derive(Clone, Debug)]
pub struct AcceptedReport {
    /// Who reports.
    pub nas: Arc<Nas>,
    /// Where the response goes.
    pub source: SocketAddr,
    credentials: Arc<Credentials>,
    packet: OwnedPacket,
    under: Under,
}

impl AcceptedReport {
    /// The request.
    pub fn packet(&self) -> Packet<'_> {
        self.packet.view()
    }

    /// What it says.
    pub fn report(&self) -> Report {
        report::read(&self.packet())
    }

    /// What is kept of it, under the id that it was given and with the decision behind it, where that was found; and
    /// what the event is known again by, however often it is sent.
    pub fn record(
        &self,
        id: Ulid,
        report: Report,
        decision: Option<FoundDecision>,
        vocabulary: &Vocabulary,
    ) -> (AccountingRecord, [u8; 16]) {
        let request = kept_request(&self.packet(), vocabulary.dictionary());
        let event = self.event(&request);
        let exchange = KeptExchange { protocol: PROTOCOL, request, reply: None };
        let (nas, source) = (self.nas.name.clone(), self.source);
        (AccountingRecord { id, nas, source, decision, report, exchange }, event)
    }

    /// Of everything but what changes when it is sent again.
    fn event(&self, kept: &[u8]) -> [u8; 16] {
        const CHANGES: [u8; 3] = [number::ACCT_DELAY_TIME, number::MESSAGE_AUTHENTICATOR, number::PROXY_STATE];
        // Many pieces of equipment may be one NAS, with an address each.
        let who = format!("{} {}\0", self.nas.name.to_lowercase(), self.source.ip().to_canonical());
        let mut digest = Sha256::new().chain_update(who);
        let sent = kept.get(1..).and_then(Attributes::read).unwrap_or_default();
        for attribute in sent.filter(|attribute| !CHANGES.contains(&attribute.number)) {
            digest.update([attribute.number, attribute.value.len() as u8]);
            digest.update(attribute.value);
        }
        *digest.finalize().first_chunk().expect("a SHA-256 has 32 bytes")
    }

    /// The Accounting-Response, which may go out only when the report is kept (RFC 2866
    /// section 4.2).
    pub fn response(&self) -> Result<Vec<u8>, String> {
        // No Message-Authenticator: no RFC has one in here, and the response gives nothing.
        let response = Builder::unsigned(Code::ACCOUNTING_RESPONSE, self.packet().identifier());
        response.reply(&self.packet(), self.credentials.secret_under(self.under)).map_err(|error| error.to_string())
    }
}

/// Turns a datagram into a report, or says why it cannot become one. `nas` is whoever has
/// the address that it came from, `now` in milliseconds since 1970.
pub fn accept_accounting(
    nas: Option<&Arc<Nas>>,
    source: SocketAddr,
    datagram: &[u8],
    now: u64,
) -> Result<AcceptedAccounting, Cause> {
    let (nas, credentials) = known(nas)?;
    let packet = Packet::parse(datagram).map_err(|error| Cause::Malformed(error.to_string()))?;
    match packet.code() {
        Code::ACCOUNTING_REQUEST => {}
        Code::STATUS_SERVER => {
            if packet.first(number::MESSAGE_AUTHENTICATOR).is_none() {
                return Err(UNSIGNED);
            }
            let under = signed_under(&packet, nas, credentials, now)?;
            return status_reply(&packet, credentials.secret_under(under), Code::ACCOUNTING_RESPONSE)
                .map(AcceptedAccounting::Status)
                .ok_or_else(|| Cause::Malformed("its Proxy-State leaves no room for an answer".into()));
        }
        code => return Err(misdirected(code, Service::Accounting)),
    }
    let is_under = |secret: &SharedSecret| check_accounting_request(&packet, secret) == AccountingAuthenticator::Right;
    let Some(under) = credentials.signed_under(&nas.heard, now, is_under) else {
        return Err(match check_accounting_request(&packet, &credentials.secret) {
            AccountingAuthenticator::MessageAuthenticatorWrong => {
                Cause::Malformed("its Message-Authenticator (attribute 80) is wrong".into())
            }
            _ => Cause::SecretDiffers {
                shown_by: "the authenticator of the Accounting-Request".into(),
                to: Service::Accounting,
            },
        });
    };
    let mut statuses = packet.all(number::ACCT_STATUS_TYPE);
    match (statuses.next().map(<[u8]>::len), statuses.next()) {
        (Some(4), None) => {}
        (None, _) => return Err(Cause::Malformed("it has no Acct-Status-Type (attribute 40)".into())),
        (Some(_), Some(_)) => return Err(Cause::Malformed("it has Acct-Status-Type (attribute 40) twice".into())),
        (Some(_), None) => return Err(Cause::Malformed("its Acct-Status-Type (attribute 40) is no number".into())),
    }
    Ok(AcceptedAccounting::Report(AcceptedReport {
        nas: nas.clone(),
        source,
        credentials: credentials.clone(),
        packet: packet.into(),
        under,
    }))
}
