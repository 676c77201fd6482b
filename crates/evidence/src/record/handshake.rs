//! What a failed conversation means in words: what happened, at whose side, what
//! to do.

use regnant_eap::{CertificateFault, Kind};

use crate::record::Record;
use crate::time::day;
use regnant_decision::{CertificateEvidence, EapEvidence, FailureEvidence};

/// Why the conversation failed, in a few words.
pub(crate) fn reason(failure: &FailureEvidence) -> String {
    match failure {
        FailureEvidence::NoCommonMethod { wanted } if wanted.is_empty() => {
            "the supplicant turned down what was offered and names nothing that it would rather have".into()
        }
        FailureEvidence::NoCommonMethod { wanted } => {
            format!("the supplicant wants {}, which the gate does not accept", or(wanted))
        }
        FailureEvidence::Alert { name } if is_distrust(name) => {
            "the supplicant does not trust our server certificate".into()
        }
        FailureEvidence::Alert { name } => format!("the supplicant broke the handshake off ({})", spaced(name)),
        FailureEvidence::OldVersion { newest } => format!("the supplicant speaks at most {newest}"),
        FailureEvidence::NoSuite => "the supplicant shares no TLS cipher suite with us".into(),
        FailureEvidence::Certificate { fault, .. } => format!("its certificate was refused: {fault}"),
        FailureEvidence::NoCertificate => "the supplicant presented no certificate".into(),
        FailureEvidence::Tls { text } => format!("TLS failed: {text}"),
        FailureEvidence::Credential => "the credential was not accepted".into(),
        FailureEvidence::GaveUp { text } => format!("the supplicant gave up: {text}"),
        FailureEvidence::Binding => "tunnel and inner method do not belong together".into(),
        FailureEvidence::Unbound => {
            "the supplicant does not prove that tunnel and inner method belong together, which the gate demands".into()
        }
        FailureEvidence::Protocol { text } => format!("the supplicant broke the protocol: {text}"),
    }
}

/// A conversation, as people are told why it failed.
pub(crate) struct Handshake<'e>(pub(crate) &'e EapEvidence);

impl<'e> Handshake<'e> {
    /// What happened, in a sentence that names both sides.
    pub(crate) fn explanation(&self, failure: &FailureEvidence) -> String {
        let own = match &self.0.presented {
            Some((subject, issuer)) => format!("`{subject}`, issued by `{issuer}`"),
            None => "our certificate".into(),
        };
        let theirs = self.own_certificate();
        match failure {
            FailureEvidence::Alert { name } if is_distrust(name) => format!(
                "The supplicant does not trust our server certificate: it rejected {own}, as *{}*.",
                spaced(name)
            ),
            FailureEvidence::Certificate { fault, late } => {
                let theirs = theirs.map(|theirs| format!(" {}", certificate_fault(theirs, *fault))).unwrap_or_default();
                let late = match late {
                    true => " This came out only after the handshake, so that the supplicant got no TLS alert.",
                    false => "",
                };
                format!("We refused the supplicant's certificate{theirs}: *{fault}*.{late}")
            }
            _ => format!("{}.", capital(&reason(failure))),
        }
    }

    /// What to do about it.
    pub(crate) fn advice(&self, failure: &FailureEvidence) -> String {
        match failure {
            FailureEvidence::NoCommonMethod { .. } => {
                "Set the supplicant to a method that the gate accepts, or add its method to `accept`.".into()
            }
            FailureEvidence::Alert { name } if name == "certificate_expired" => {
                "Renew our server certificate, and see that the supplicant's clock is right.".into()
            }
            FailureEvidence::Alert { name } if name == "internal_error" => format!(
                "Right after our certificate this most often means that the supplicant expects another server name than \
                 {}: compare the name in its settings, or give it the profile of this gate.",
                self.0.presented.as_ref().map_or("ours".into(), |(subject, _)| format!("`{subject}`"))
            ),
            FailureEvidence::Alert { name } if is_distrust(name) => {
                "Give it the profile of this gate, or use a certificate from an authority that it knows.".into()
            }
            FailureEvidence::Alert { .. } => {
                "Look into the supplicant's own log: it ended the handshake, not we.".into()
            }
            FailureEvidence::OldVersion { .. } => {
                "Update the supplicant or its settings: TLS 1.0 and 1.1 are not served (RFC 8996).".into()
            }
            FailureEvidence::NoSuite => "Update the supplicant or allow it newer cipher suites.".into(),
            FailureEvidence::Certificate { fault, .. } => certificate_advice(*fault).into(),
            FailureEvidence::NoCertificate => {
                "Install a client certificate on the supplicant and choose it there, or let it use a method with a \
                 password."
                    .into()
            }
            FailureEvidence::Binding => {
                "Somebody may be relaying the inner method: find out where the supplicant connects. A faulty \
                 supplicant does this too; update it."
                    .into()
            }
            FailureEvidence::Unbound => {
                "Turn crypto-binding on in the supplicant; where it has none, the gate must accept `peap(...)` without \
                 `bound`, and an inner method that is relayed from elsewhere then passes."
                    .into()
            }
            FailureEvidence::GaveUp { .. } => {
                "Look into the supplicant's own log; a wrong password on its side of the proof is most common.".into()
            }
            _ => "Update the supplicant; if it is new already, please report this.".into(),
        }
    }

    /// What it means that nothing more came.
    pub(crate) fn silence(&self) -> (String, &'static str) {
        let started = self.0.tls.is_some();
        match (started, self.0.inner.is_empty(), self.0.method) {
            (true, true, _) => (
                "The supplicant went silent after our certificate".into(),
                "Most often it is waiting for a person to accept the certificate, or large fragments are lost on \
                 the way: give it the profile of this gate, or lower Framed-MTU on the equipment.",
            ),
            (true, false, _) => (
                "The supplicant went silent inside the tunnel".into(),
                "Most often it is waiting for a person to type a password.",
            ),
            (false, _, Some(method)) => (
                format!("The supplicant went silent when {method} was offered"),
                "It may not know the method, or have left the network; look into its own log.",
            ),
            _ => (
                "The supplicant went silent after telling its identity".into(),
                "It may have left the network, or the equipment restarted.",
            ),
        }
    }

    fn own_certificate(&self) -> Option<&'e CertificateEvidence> {
        let inner = self.0.inner.iter().filter_map(|inner| inner.tls.as_ref());
        self.0.tls.iter().chain(inner).find_map(|tls| tls.certificates.first())
    }
}

impl Record {
    pub(crate) fn eap_or_default(&self) -> EapEvidence {
        self.eap.as_deref().cloned().unwrap_or_default()
    }
}

/// Alerts by which a supplicant rejects our certificate (RFC 8446 section 6.2).
fn is_distrust(name: &str) -> bool {
    matches!(
        name,
        "unknown_ca"
            | "bad_certificate"
            | "certificate_unknown"
            | "certificate_expired"
            | "certificate_revoked"
            | "unsupported_certificate"
            | "bad_certificate_status_response"
    )
}

fn or(kinds: &[Kind]) -> String {
    kinds.iter().map(Kind::to_string).collect::<Vec<_>>().join(" or ")
}

fn spaced(name: &str) -> String {
    name.replace('_', " ").replace(" ca", " CA")
}

fn certificate_fault(certificate: &CertificateEvidence, fault: CertificateFault) -> String {
    let dates = match fault {
        CertificateFault::Expired => format!(", which ended on {}", day(certificate.not_after)),
        CertificateFault::NotYetValid => format!(", which begins on {}", day(certificate.not_before)),
        _ => String::new(),
    };
    format!("`{}`, issued by `{}`{dates}", certificate.subject, certificate.issuer)
}

fn certificate_advice(fault: CertificateFault) -> &'static str {
    match fault {
        CertificateFault::Expired => "Renew the supplicant's certificate.",
        CertificateFault::AuthorityExpired => {
            "Renew the authority, then whatever it issued; until then it vouches for nobody."
        }
        CertificateFault::NotYetValid => "Look at the clocks: the certificate is not valid yet here.",
        CertificateFault::Revoked => "Its issuer has revoked it: find out why before giving the supplicant a new one.",
        CertificateFault::RevocationUnknown => {
            "Bring the issuer's revocation list up to date in the trust, or see why its responder does not answer; or \
             let the gate go on without them: `revocation crl { unreachable continue }`."
        }
        CertificateFault::UnknownIssuer => {
            "Add its authority to the trust of this gate if you believe it; else give the supplicant a certificate \
             of an authority that is trusted here."
        }
        CertificateFault::WrongPurpose => {
            "It needs the usages client authentication and digital signature: issue it anew."
        }
        _ => "Issue the certificate anew.",
    }
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map(|first| first.to_uppercase().chain(chars).collect()).unwrap_or_default()
}
