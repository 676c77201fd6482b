//! What a service answers, in words and in facts.

use regnant_decision::{AttributeKind, NoAnswer};
use regnant_policy::Value;
use serde_json::Value as Json;
use thiserror::Error;

/// Why a service did not answer, and what to do.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum Trouble {
    /// It is not reached, or does not prove who it is.
    #[error("{server} is not reached: {why}")]
    NotReached {
        /// Which.
        server: String,
        /// Why.
        why: String,
    },
    /// It did not answer in time.
    #[error("{server} gave no answer within {seconds} s")]
    Late {
        /// Which.
        server: String,
        /// How long it was waited for.
        seconds: u64,
    },
    /// It does not believe who asks.
    #[error("{server} does not let us ask: {status}")]
    NotAllowed {
        /// Which.
        server: String,
        /// What it said.
        status: String,
    },
    /// It answered with an error.
    #[error("{server} answers {status}")]
    Refused {
        /// Which.
        server: String,
        /// What it said.
        status: String,
    },
    /// It does not take this question.
    #[error("{server} does not take the question: {status}")]
    NotTaken {
        /// Which.
        server: String,
        /// What it said.
        status: String,
    },
    /// It sends elsewhere, where nobody follows.
    #[error("{server} sends to {to}, which is not followed")]
    Sends {
        /// Which.
        server: String,
        /// Where to.
        to: String,
    },
    /// What came is no JSON object.
    #[error("{server} answers what is no JSON object: {begins}")]
    NoObject {
        /// Which.
        server: String,
        /// How it begins.
        begins: String,
    },
    /// What came is too long.
    #[error("{server} answers more than {most} bytes")]
    TooLong {
        /// Which.
        server: String,
        /// The most that is read.
        most: usize,
    },
    /// It failed a moment ago, and is not asked again so soon.
    #[error("it did not answer a moment ago ({0})")]
    Down(String),
}

impl From<Trouble> for NoAnswer {
    fn from(trouble: Trouble) -> Self {
        Self::Silent(trouble.to_string())
    }
}

impl Trouble {
    /// Whether the next question would fare no better.
    pub(crate) fn is_the_servers(&self) -> bool {
        match self {
            Self::NotReached { .. } | Self::Late { .. } | Self::NotAllowed { .. } | Self::Refused { .. } => true,
            Self::NotTaken { .. }
            | Self::Sends { .. }
            | Self::NoObject { .. }
            | Self::TooLong { .. }
            | Self::Down(_) => false,
        }
    }

    /// Whether it may be about one question alone, so that once is chance.
    pub(crate) fn may_be_chance(&self) -> bool {
        matches!(self, Self::Late { .. } | Self::Refused { .. })
    }

    /// What to do about it.
    pub fn advice(&self) -> &'static str {
        match self {
            Self::NotReached { .. } => {
                "See whether the service runs, whether the address is right, and whether the trust is that of its authority."
            }
            Self::Late { .. } => "See why the service is slow, or give it a longer time limit.",
            Self::NotAllowed { .. } => {
                "Give the secret anew; where a token is had for it, see to client, scope and token address."
            }
            Self::Refused { .. } => "See what the service's own log says of the question.",
            Self::NotTaken { .. } => {
                "Look at how names are written there: `by` in the gate's `lookup` says what is asked for."
            }
            Self::Sends { .. } => "Write the address that it sends to, where that is the service.",
            Self::NoObject { .. } => {
                "See whether the address is that of the service and not of a page for people: an answer is one JSON object."
            }
            Self::TooLong { .. } => "Ask for one name, not for a list.",
            Self::Down(_) => "It is asked again in a few seconds.",
        }
    }
}

/// The value of a fact at a place of an answer, where there is one; what is there and none of its type is one of
/// another.
pub(crate) fn value(answer: &Json, kind: AttributeKind, pointer: &str) -> Option<Value<'static>> {
    let members = match answer.pointer(pointer)? {
        Json::Array(members) => members.as_slice(),
        one => std::slice::from_ref(one),
    };
    let members = members.iter().filter(|member| !member.is_null());
    match members.map(text).collect::<Option<Vec<_>>>() {
        Some(texts) => kind.read(texts.iter().map(String::as_str)),
        None => Some(kind.misfit()),
    }
}

fn text(json: &Json) -> Option<String> {
    match json {
        Json::String(text) => Some(text.clone()),
        Json::Bool(truth) => Some(truth.to_string()),
        Json::Number(number) => Some(number.to_string()),
        Json::Null | Json::Array(_) | Json::Object(_) => None,
    }
}

/// Reads bytes as an answer: one object.
pub(crate) fn object(server: &str, bytes: &[u8]) -> Result<Json, Trouble> {
    match serde_json::from_slice::<Json>(bytes) {
        Ok(object @ Json::Object(_)) => Ok(object),
        _ => {
            let begins = String::from_utf8_lossy(&bytes[..bytes.len().min(60)]).trim().to_owned();
            Err(Trouble::NoObject { server: server.to_owned(), begins })
        }
    }
}

/// Reads any bytes as an answer, for those who try what comes of them.
#[doc(hidden)]
pub fn read_any(bytes: &[u8], pointer: &str) {
    if let Ok(answer) = object("it", bytes) {
        for (_, kind) in AttributeKind::ALL {
            let _ = value(&answer, kind, pointer);
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use serde_json::json;

    use super::*;

    #[test]
    fn a_fact_is_of_its_type_or_not_there() {
        let answer = json!({ "device": { "compliant": true, "owner": "ida.marsh", "level": 7, "tags": ["a", 1, null], "a/b": "x",
            "half": 1.5, "no": null, "one": ["z"], "word": "false" } });
        let shown = |kind, pointer: &str| value(&answer, kind, pointer).map(|value| value.to_string());
        assert_eq!(shown(AttributeKind::Boolean, "/device/compliant").as_deref(), Some("true"));
        assert_eq!(shown(AttributeKind::Boolean, "/device/word").as_deref(), Some("false"));
        assert_eq!(shown(AttributeKind::Text, "/device/owner").as_deref(), Some("\"ida.marsh\""));
        assert_eq!(shown(AttributeKind::Number, "/device/level").as_deref(), Some("7"));
        assert_eq!(shown(AttributeKind::Text, "/device/a~1b").as_deref(), Some("\"x\""));
        assert_eq!(shown(AttributeKind::Text, "/device/one").as_deref(), Some("\"z\""));
        assert!(
            matches!(value(&answer, AttributeKind::Texts, "/device/tags"), Some(Value::Set(set)) if set.len() == 2)
        );
        for (kind, pointer) in [
            (AttributeKind::Number, "/device/half"),
            (AttributeKind::Boolean, "/device/owner"),
            (AttributeKind::Text, "/device"),
            (AttributeKind::Text, "/device/tags"),
        ] {
            assert_eq!(value(&answer, kind, pointer), Some(kind.misfit()), "{pointer}");
        }
        for pointer in ["/device/no", "/nothing"] {
            assert_eq!(value(&answer, AttributeKind::Text, pointer), None, "{pointer}");
        }
    }

    proptest! {
        #[test]
        fn whatever_comes_is_an_answer_or_none(bytes: Vec<u8>, pointer: String) {
            read_any(&bytes, &pointer);
            let text = String::from_utf8_lossy(&bytes).into_owned();
            read_any(json!({ pointer.clone(): [text, 1] }).to_string().as_bytes(), &format!("/{pointer}"));
        }
    }
}
