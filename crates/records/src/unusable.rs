use std::fmt;

/// Something that is configured and that this node cannot use as it is, so that what needs it is refused: a
/// secret that is sealed under another key, a certificate without its key. A store that cannot be asked counts as one
/// that does not answer.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Unusable {
    /// What it is: "NAS `yard-sw-1`", "gate `wlan`".
    pub what: String,
    /// Why it cannot be used.
    pub why: String,
}

impl Unusable {
    /// What it is, and why it cannot be used.
    pub fn new(what: impl fmt::Display, why: impl fmt::Display) -> Self {
        Self { what: what.to_string(), why: why.to_string() }
    }
}

impl fmt::Display for Unusable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.what, self.why)
    }
}
