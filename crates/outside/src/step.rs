//! What a test of the way to a store tells.

use std::time::{Duration, Instant};

/// A step of the way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    /// What was to be done, in a few words.
    pub what: String,
    /// Whether it went well.
    pub passed: bool,
    /// What was seen.
    pub saw: String,
    /// What to do, where it did not go well.
    pub advice: String,
    /// How long it took, in milliseconds.
    pub millis: u64,
}

impl Step {
    /// One that went well.
    pub fn passed(what: &str, saw: String, began: Instant) -> Self {
        Self { what: what.into(), passed: true, saw, advice: String::new(), millis: began.elapsed().as_millis() as u64 }
    }

    /// One that did not.
    pub fn wrong(what: &str, saw: String, advice: &str, began: Instant) -> Self {
        let millis = began.elapsed().as_millis() as u64;
        Self { what: what.into(), passed: false, saw, advice: advice.into(), millis }
    }
}

/// A certificate in DER in words.
pub fn shown_certificate(der: &[u8]) -> Option<String> {
    let (_, certificate) = x509_parser::parse_x509_certificate(der).ok()?;
    let ends = certificate.validity().not_after.to_datetime().date();
    Some(format!("{}, issued by {}, until {ends}", certificate.subject(), certificate.issuer()))
}

/// How a server that is asked does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ServerHealth {
    /// Its address.
    pub url: String,
    /// For how long it has not answered, why, and what to do; none where it does, or was not asked
    /// yet.
    pub down: Option<(Duration, String, &'static str)>,
    /// How many questions it was asked.
    pub asked: u64,
    /// How many of them it did not answer.
    pub failed: u64,
}

/// For how long none of several servers has answered, why, and what to do.
pub fn all_down(servers: &[ServerHealth]) -> Option<(Duration, &str, &'static str)> {
    let all = !servers.is_empty() && servers.iter().all(|server| server.down.is_some());
    let down = servers.iter().filter_map(|server| server.down.as_ref());
    let shortest = down.min_by_key(|(time, ..)| *time).filter(|_| all);
    shortest.map(|(time, why, advice)| (*time, why.as_str(), *advice))
}
