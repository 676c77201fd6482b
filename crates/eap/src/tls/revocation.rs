use std::fmt;

/// How it is judged whether certificates were revoked.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Judgement {
    /// Who is asked, in this order; the first that knows decides. With nobody,
    /// revocation is not judged.
    pub sources: Vec<Source>,
    /// Whether a certificate passes of which nobody knows.
    pub unknown_passes: bool,
}

/// Who knows what was revoked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Source {
    /// The issuer's list (RFC 5280 section 5).
    Crl,
    /// The issuer's responder (RFC 6960).
    Ocsp,
}

impl Judgement {
    /// By these sources; of whom nobody knows is refused.
    pub fn by(sources: &[Source]) -> Self {
        Self { sources: sources.to_vec(), unknown_passes: false }
    }

    /// The same, but of whom nobody knows passes.
    pub fn passing_unknown(self) -> Self {
        Self { unknown_passes: true, ..self }
    }
}

/// What an issuer's responder said of a certificate (RFC 6960 section 2.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// It was not revoked.
    Good,
    /// It was.
    Revoked,
    /// The responder answers for the issuer and has never heard of it: whoever made
    /// it, it passes by no leniency about responders that are silent.
    Unknown,
}

/// The answers of responders that are at hand, verified already.
pub trait Standings: fmt::Debug + Send + Sync {
    /// What is known of the certificate with this SHA-256, at this second since
    /// 1970.
    fn of(&self, fingerprint: &[u8; 32], now: u64) -> Option<Standing>;
}

/// A certificate of which a responder must be asked before its verdict.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Question {
    /// The certificate's SHA-256.
    pub fingerprint: [u8; 32],
    /// The certificate, in DER.
    pub certificate: Vec<u8>,
    /// Its issuer's, in DER.
    pub issuer: Vec<u8>,
    /// The responder that the trust names in place of the certificate's own.
    pub responder: Option<String>,
}
