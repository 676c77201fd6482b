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
    AccountingAuthenticator, Builder, Code, MessageAuthenticator, OwnedPacket, Packet, check_accounting_request,
    check_message_authenticator, number,
};

pub use class::DecisionClass;
pub use report::{Report, ReportStatus};
pub use whereabouts::Whereabouts;

use crate::accept::{Cause, status_reply};
use crate::nas::Nas;

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
        response.reply(&self.packet(), &self.nas.secret).map_err(|error| error.to_string())
    }
}

/// Turns a datagram into a report, or says why it cannot become one. `nas` is whoever has
/// the address that it came from.
pub fn accept_accounting(
    nas: Option<&Arc<Nas>>,
    source: SocketAddr,
    datagram: &[u8],
) -> Result<AcceptedAccounting, Cause> {
    let nas = nas.ok_or(Cause::UnknownSender)?;
    let packet = Packet::parse(datagram).map_err(|error| Cause::Malformed(error.to_string()))?;
    match packet.code() {
        Code::ACCOUNTING_REQUEST => {}
        Code::STATUS_SERVER => {
            return match check_message_authenticator(&packet, &nas.secret) {
                MessageAuthenticator::Right => status_reply(&packet, nas, Code::ACCOUNTING_RESPONSE)
                    .map(AcceptedAccounting::Status)
                    .ok_or_else(|| Cause::Malformed("its Proxy-State leaves no room for an answer".into())),
                MessageAuthenticator::Wrong => Err(Cause::SecretDiffers),
                MessageAuthenticator::Missing => Err(Cause::MessageAuthenticatorMissing),
            };
        }
        code => return Err(Cause::UnexpectedOnAccounting(code.to_string())),
    }
    match check_accounting_request(&packet, &nas.secret) {
        AccountingAuthenticator::Right => {}
        AccountingAuthenticator::Wrong => return Err(Cause::AccountingSecretDiffers),
        AccountingAuthenticator::MessageAuthenticatorWrong => {
            return Err(Cause::Malformed("its Message-Authenticator (attribute 80) is wrong".into()));
        }
    }
    let mut statuses = packet.all(number::ACCT_STATUS_TYPE);
    match (statuses.next().map(<[u8]>::len), statuses.next()) {
        (Some(4), None) => {}
        (None, _) => return Err(Cause::Malformed("it has no Acct-Status-Type (attribute 40)".into())),
        (Some(_), Some(_)) => return Err(Cause::Malformed("it has Acct-Status-Type (attribute 40) twice".into())),
        (Some(_), None) => return Err(Cause::Malformed("its Acct-Status-Type (attribute 40) is no number".into())),
    }
    Ok(AcceptedAccounting::Report(AcceptedReport { nas: nas.clone(), source, packet: packet.into() }))
}
