//! Accounting (RFC 2866): what equipment reports of the access that it gives.
//!
//! [`accept_accounting`] turns a datagram into a report, and says what is sent once the report
//! is kept; [`Report`] reads it.

mod class;
mod report;
mod whereabouts;

use std::net::SocketAddr;
use std::sync::Arc;

use regnant_radius::{
    AccountingAuthenticator, Builder, Code, OwnedPacket, Packet, SharedSecret, check_accounting_request, number,
};

pub use class::DecisionClass;
pub use report::{Report, ReportStatus};
pub use whereabouts::Whereabouts;

use crate::accept::{Cause, is_signed_under, status_reply};
use crate::nas::{Nas, Under};

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
    packet: OwnedPacket,
    under: Under,
}

impl AcceptedReport {
    /// The request.
    pub fn packet(&self) -> Packet<'_> {
        self.packet.view()
    }

    /// What it says.
    pub fn report(&self) -> Report<'_> {
        Report::read(self.packet.view().attributes())
    }

    /// The Accounting-Response, which may go out only when the report is kept (RFC 2866
    /// section 4.2).
    pub fn response(&self) -> Result<Vec<u8>, String> {
        // No Message-Authenticator: no RFC has one in here, and the response gives nothing.
        let response = Builder::unsigned(Code::ACCOUNTING_RESPONSE, self.packet().identifier());
        response.reply(&self.packet(), self.nas.secret_under(self.under)).map_err(|error| error.to_string())
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
    let nas = nas.ok_or(Cause::UnknownSender)?;
    let packet = Packet::parse(datagram).map_err(|error| Cause::Malformed(error.to_string()))?;
    match packet.code() {
        Code::ACCOUNTING_REQUEST => {}
        Code::STATUS_SERVER => {
            if packet.first(number::MESSAGE_AUTHENTICATOR).is_none() {
                return Err(Cause::MessageAuthenticatorMissing);
            }
            let under = nas.signed_under(now, |secret| is_signed_under(&packet, secret)).ok_or(Cause::SecretDiffers)?;
            return status_reply(&packet, nas.secret_under(under), Code::ACCOUNTING_RESPONSE)
                .map(AcceptedAccounting::Status)
                .ok_or_else(|| Cause::Malformed("its Proxy-State leaves no room for an answer".into()));
        }
        code => return Err(Cause::UnexpectedOnAccounting(code.to_string())),
    }
    let is_under = |secret: &SharedSecret| check_accounting_request(&packet, secret) == AccountingAuthenticator::Right;
    let Some(under) = nas.signed_under(now, is_under) else {
        return Err(match check_accounting_request(&packet, &nas.secret) {
            AccountingAuthenticator::MessageAuthenticatorWrong => {
                Cause::Malformed("its Message-Authenticator (attribute 80) is wrong".into())
            }
            _ => Cause::AccountingSecretDiffers,
        });
    };
    let mut statuses = packet.all(number::ACCT_STATUS_TYPE);
    match (statuses.next().map(<[u8]>::len), statuses.next()) {
        (Some(4), None) => {}
        (None, _) => return Err(Cause::Malformed("it has no Acct-Status-Type (attribute 40)".into())),
        (Some(_), Some(_)) => return Err(Cause::Malformed("it has Acct-Status-Type (attribute 40) twice".into())),
        (Some(_), None) => return Err(Cause::Malformed("its Acct-Status-Type (attribute 40) is no number".into())),
    }
    Ok(AcceptedAccounting::Report(AcceptedReport { nas: nas.clone(), source, packet: packet.into(), under }))
}
