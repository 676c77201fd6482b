use crate::crypto::mschap;
use crate::failure::Failure;
use crate::keys::{Keys, random_bytes};
use crate::server::credential::{Answer, Claim, Credential, LONGEST_NAME, MsChapChange, MsChapResponse};
use crate::server::{Context, Method, Turn};
use crate::wire::kind::Kind;
use crate::wire::reader::Reader;

/// What the first byte says.
pub(crate) const CHALLENGE: u8 = 1;
pub(crate) const RESPONSE: u8 = 2;
pub(crate) const SUCCESS: u8 = 3;
pub(crate) const FAILURE: u8 = 4;
pub(crate) const CHANGE: u8 = 7;

/// RFC 2759 section 6.
const WRONG_PASSWORD: u32 = 691;
const PASSWORD_EXPIRED: u32 = 648;

const NAME: &[u8] = b"regnant";

/// EAP-MSCHAPv2: RFC 2759 in EAP packets, with retry and change of password.
///
/// ```text
///  0                   1                   2                   3
///  0 1 2 3 4 5 6 7 8 9 0 1 2 3 4 5 6 7 8 9 0 1 2 3 4 5 6 7 8 9 0 1
/// +-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+
/// |    OpCode     |  MS-CHAPv2-ID |          MS-Length            |
/// +-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+
/// |   Data ...
/// ```
#[derive(Debug)]
pub(crate) struct MsChapV2 {
    identifier: u8,
    challenge: [u8; 16],
    retries: u8,
    /// Whether a change was offered already: one is.
    changed: bool,
    state: State,
    keys: Option<Keys>,
}

#[derive(Debug)]
enum State {
    /// A response is awaited.
    Challenged,
    /// Its check is awaited.
    Asked { challenge: [u8; 8], response: [u8; 24] },
    /// The peer must believe our proof.
    Told,
    /// The peer must acknowledge the failure, or do what it may.
    Failed(May),
}

/// What may follow a failure beside its acknowledgement.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum May {
    Nothing,
    /// The password typed anew.
    Retry,
    /// A new password in place of the expired one.
    Change,
}

impl MsChapV2 {
    pub(crate) fn new(retries: u8) -> Self {
        Self { identifier: 0, challenge: [0; 16], retries, changed: false, state: State::Challenged, keys: None }
    }

    fn message(&self, code: u8, body: &[u8]) -> Turn {
        let length = (4 + body.len()) as u16;
        Turn::Request([&[code, self.identifier], &length.to_be_bytes()[..], body].concat())
    }

    fn response(&mut self, mut reader: Reader<'_>, cx: &Context<'_>) -> Option<Turn> {
        let (_, _) = (reader.u8()?, reader.u16()?);
        let mut value = reader.short()?;
        let peer_challenge = value.array()?;
        let _reserved: [u8; 8] = value.array()?;
        let response = value.array()?;
        let name = std::str::from_utf8(reader.0).ok().filter(|name| name.len() <= LONGEST_NAME)?;
        let challenge = mschap::challenge_hash(&peer_challenge, &self.challenge, name);
        self.state = State::Asked { challenge, response };
        Some(Self::ask(name, Credential::MsChap(MsChapResponse { challenge, response }), cx))
    }

    fn change(&mut self, mut reader: Reader<'_>, cx: &Context<'_>) -> Option<Turn> {
        let (_, _) = (reader.u8()?, reader.u16()?);
        let (encrypted_password, encrypted_hash) = (reader.array()?, reader.array()?);
        let peer_challenge = reader.array()?;
        let _reserved: [u8; 8] = reader.array()?;
        let response = reader.array()?;
        let name = cx.identity;
        let challenge = mschap::challenge_hash(&peer_challenge, &self.challenge, name);
        self.state = State::Asked { challenge, response };
        let change = MsChapChange { challenge, response, encrypted_password, encrypted_hash };
        Some(Self::ask(name, Credential::Change(Box::new(change)), cx))
    }

    fn ask(name: &str, credential: Credential, cx: &Context<'_>) -> Turn {
        let name = if name.is_empty() { cx.identity } else { name };
        Turn::Ask(Claim { name: name.to_owned(), identity_type: cx.identity_type, method: "eap-mschapv2", credential })
    }

    /// `E=691 R=1 C=... V=3 M=...` (RFC 2759 section 6).
    fn refuse(&mut self, error: u32, may: May, cx: &mut Context<'_>) -> Turn {
        self.challenge = random_bytes(cx.random);
        self.state = State::Failed(may);
        let challenge: String = self.challenge.iter().map(|byte| format!("{byte:02X}")).collect();
        let text = format!("E={error} R={} C={challenge} V=3 M=Not accepted", u8::from(may != May::Nothing));
        self.message(FAILURE, text.as_bytes())
    }
}

impl Method for MsChapV2 {
    fn kind(&self) -> Kind {
        Kind::MSCHAPV2
    }

    fn begin(&mut self, cx: &mut Context<'_>) -> Turn {
        self.challenge = random_bytes(cx.random);
        self.identifier = cx.next_identifier;
        self.message(CHALLENGE, &[&[16], &self.challenge[..], NAME].concat())
    }

    fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Turn {
        let mut reader = Reader(data);
        let malformed = || Turn::Failed(Failure::Malformed("an EAP-MSCHAPv2 message is cut, or its name too long"));
        match (reader.u8(), &self.state) {
            (Some(RESPONSE), State::Challenged | State::Failed(May::Retry)) => {
                self.response(reader, cx).unwrap_or_else(malformed)
            }
            (Some(CHANGE), State::Failed(May::Change)) => self.change(reader, cx).unwrap_or_else(malformed),
            (Some(SUCCESS), State::Told) => Turn::Proved,
            // The failure stands, whatever the peer says to it: no more guesses.
            (_, State::Failed(_)) => Failure::Credential.into(),
            (Some(FAILURE), State::Told) => Failure::GaveUp("it did not believe the server's proof").into(),
            _ => Failure::Unexpected("an EAP-MSCHAPv2 message out of turn").into(),
        }
    }

    fn answer(&mut self, answer: Answer, cx: &mut Context<'_>) -> Turn {
        let State::Asked { challenge, response } = self.state else {
            return Failure::Unexpected("an answer that nobody asked for").into();
        };
        match answer {
            Answer::Right { session_key: Some(hash) } => {
                let Ok(hash) = <[u8; 16]>::try_from(hash.expose()) else { return Failure::Credential.into() };
                self.keys = Some(Keys::new(&mschap::session_keys(&hash, &response), None, Vec::new()));
                self.state = State::Told;
                let proof = mschap::authenticator_response(&hash, &response, &challenge);
                self.message(SUCCESS, format!("{proof} M=Welcome").as_bytes())
            }
            Answer::Expired => {
                let may = if std::mem::replace(&mut self.changed, true) { May::Nothing } else { May::Change };
                self.refuse(PASSWORD_EXPIRED, may, cx)
            }
            _ => {
                let may = if self.retries > 0 { May::Retry } else { May::Nothing };
                self.retries = self.retries.saturating_sub(1);
                self.identifier = self.identifier.wrapping_add(1);
                self.refuse(WRONG_PASSWORD, may, cx)
            }
        }
    }

    fn conclude(&mut self, accept: bool, _: &mut Context<'_>) -> Turn {
        if accept { Turn::Success } else { Failure::Refused.into() }
    }

    fn keys(&self) -> Option<Keys> {
        self.keys.clone()
    }
}
