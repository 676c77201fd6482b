use crate::failure::Failure;
use crate::keys::{Keys, random_bytes};
use crate::server::credential::{Answer, Claim, Credential};
use crate::server::{Context, Method, Turn};
use crate::wire::kind::Kind;
use crate::wire::reader::Reader;

/// EAP-MD5 (RFC 3748 section 5.4). It makes no keys and proves nothing of the
/// server.
#[derive(Debug)]
pub(crate) struct Md5Challenge {
    challenge: [u8; 16],
    /// Part of what is hashed: the identifier of the request.
    identifier: u8,
}

impl Md5Challenge {
    pub(crate) fn new() -> Self {
        Self { challenge: [0; 16], identifier: 0 }
    }
}

impl Method for Md5Challenge {
    fn kind(&self) -> Kind {
        Kind::MD5
    }

    fn begin(&mut self, cx: &mut Context<'_>) -> Turn {
        self.challenge = random_bytes(cx.random);
        self.identifier = cx.next_identifier;
        Turn::Request([&[16], &self.challenge[..]].concat())
    }

    fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Turn {
        let response = Reader(data).short().and_then(|value| <[u8; 16]>::try_from(value.0).ok());
        let Some(response) = response else {
            return Failure::Malformed("an EAP-MD5 response has 16 bytes").into();
        };
        Turn::Ask(Claim {
            name: cx.identity.to_owned(),
            identity_type: cx.identity_type,
            method: "eap-md5",
            credential: Credential::Md5 { identifier: self.identifier, challenge: self.challenge.to_vec(), response },
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
