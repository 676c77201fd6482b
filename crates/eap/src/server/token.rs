use crate::failure::Failure;
use crate::keys::{Keys, Secret};
use crate::server::credential::{Answer, Claim, Credential};
use crate::server::{Context, Method, Turn};
use crate::wire::kind::Kind;

/// EAP-GTC (RFC 3748 section 5.6): a password or the number of a token, in clear,
/// so only inside a tunnel.
#[derive(Debug)]
pub(crate) struct Token;

impl Token {
    pub(crate) fn new() -> Self {
        Self
    }
}

impl Method for Token {
    fn kind(&self) -> Kind {
        Kind::GTC
    }

    fn begin(&mut self, _: &mut Context<'_>) -> Turn {
        Turn::Request(b"Password".to_vec())
    }

    fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Turn {
        if data.is_empty() {
            return Failure::Malformed("an EAP-GTC response is empty").into();
        }
        Turn::Ask(Claim {
            name: cx.identity.to_owned(),
            identity_type: cx.identity_type,
            method: "eap-gtc",
            credential: Credential::Password(Secret::new(data)),
        })
    }

    fn answer(&mut self, answer: Answer, _: &mut Context<'_>) -> Turn {
        match answer {
            Answer::Right { .. } => Turn::Proved,
            _ => Failure::Credential.into(),
        }
    }

    fn conclude(&mut self, accept: bool, _: &mut Context<'_>) -> Turn {
        if accept { Turn::Success } else { Failure::Refused.into() }
    }

    fn keys(&self) -> Option<Keys> {
        None
    }
}
