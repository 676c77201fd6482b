use crate::crypto::mschap;
use crate::failure::Failure;
use crate::keys::{Keys, random_bytes};
use crate::peer::{Context, Login, Method, Turn};
use crate::server::mschapv2::{CHALLENGE, CHANGE, FAILURE, RESPONSE, SUCCESS};
use crate::wire::reader::Reader;

/// EAP-MSCHAPv2.
#[derive(Debug)]
pub(crate) struct MsChapV2 {
    login: Login,
    /// The proof that the server must give, and the keys that go with it.
    expected: Option<(String, Keys)>,
    done: bool,
    failed: bool,
}

impl MsChapV2 {
    pub(crate) fn new(login: Login) -> Self {
        Self { login, expected: None, done: false, failed: false }
    }

    fn respond(&mut self, identifier: u8, challenge: &[u8; 16], cx: &mut Context<'_>) -> Turn {
        let peer_challenge = random_bytes(cx.random);
        let hash = mschap::nt_password_hash(self.login.text());
        let answer = self.prove(&hash, challenge, &peer_challenge);
        let name = self.login.name.as_bytes();
        let body = [&[49], &peer_challenge[..], &[0; 8], &answer, &[0], name].concat();
        message(RESPONSE, identifier, &body)
    }

    fn prove(&mut self, hash: &[u8; 16], challenge: &[u8; 16], peer_challenge: &[u8; 16]) -> [u8; 24] {
        let challenge = mschap::challenge_hash(peer_challenge, challenge, &self.login.name);
        let answer = mschap::challenge_response(&challenge, hash);
        let twice = mschap::hash_of_hash(hash);
        let proof = mschap::authenticator_response(&twice, &answer, &challenge);
        self.expected = Some((proof, Keys::new(&mschap::session_keys(&twice, &answer), None, Vec::new())));
        answer
    }

    /// `E=648 R=1 C=...`: the password has expired and may be changed.
    fn change(&mut self, identifier: u8, text: &str, cx: &mut Context<'_>) -> Option<Turn> {
        let field = |name: &str| text.split(' ').find_map(|part| part.strip_prefix(name));
        let new = self.login.new_password.take().filter(|_| field("E=") == Some("648"))?;
        let hex = field("C=")?;
        let mut challenge = [0; 16];
        for (place, byte) in challenge.iter_mut().enumerate() {
            *byte = u8::from_str_radix(hex.get(2 * place..2 * place + 2)?, 16).ok()?;
        }
        let old_hash = mschap::nt_password_hash(self.login.text());
        let password = std::str::from_utf8(new.expose()).ok()?;
        let new_hash = mschap::nt_password_hash(password);
        let encrypted = mschap::encrypt_new_password(password, &old_hash, &random_bytes(cx.random))?;
        let peer_challenge = random_bytes(cx.random);
        let answer = self.prove(&new_hash, &challenge, &peer_challenge);
        let old = mschap::encrypt_old_hash(&old_hash, &new_hash);
        let body = [&encrypted[..], &old, &peer_challenge, &[0; 8], &answer, &[0, 0]].concat();
        Some(message(CHANGE, identifier.wrapping_add(1), &body))
    }
}

fn message(code: u8, identifier: u8, body: &[u8]) -> Turn {
    let length = (4 + body.len()) as u16;
    Turn::Response([&[code, identifier], &length.to_be_bytes()[..], body].concat())
}

impl Method for MsChapV2 {
    fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Turn {
        let mut reader = Reader(data);
        let malformed = || Turn::Failed(Failure::Malformed("an EAP-MSCHAPv2 message is cut"));
        let (Some(code), Some(identifier), Some(_)) = (reader.u8(), reader.u8(), reader.u16()) else {
            return malformed();
        };
        let text = std::str::from_utf8(reader.0).unwrap_or_default();
        match code {
            CHALLENGE => match reader.short().and_then(|mut value| value.array()) {
                Some(challenge) => self.respond(identifier, &challenge, cx),
                None => malformed(),
            },
            SUCCESS => match &self.expected {
                Some((proof, _)) if text.split(' ').next() == Some(proof) => {
                    self.done = true;
                    Turn::Response(vec![SUCCESS])
                }
                _ => Failure::GaveUp("the server does not know the password").into(),
            },
            FAILURE => match self.change(identifier, text, cx) {
                Some(turn) => turn,
                None => {
                    self.failed = true;
                    Turn::Response(vec![FAILURE])
                }
            },
            _ => Failure::Unexpected("an EAP-MSCHAPv2 message out of turn").into(),
        }
    }

    fn is_done(&self) -> bool {
        self.done
    }

    fn failure(&self) -> Option<Failure> {
        self.failed.then_some(Failure::Credential)
    }

    fn keys(&self) -> Option<Keys> {
        self.expected.as_ref().filter(|_| self.done).map(|(_, keys)| keys.clone())
    }
}
