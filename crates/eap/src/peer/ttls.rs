use std::sync::Arc;

use md5::{Digest, Md5};

use crate::crypto::mschap;
use crate::failure::Failure;
use crate::keys::{Keys, random_bytes};
use crate::peer::responder::{Reply, Responder};
use crate::peer::tunnel::{Event, Tunnel};
use crate::peer::{Context, Login, Method, Tunnelled, Turn};
use crate::server::tls::COMMITMENT;
use crate::tls::TlsAbout;
use crate::tls::client::ClientTls;
use crate::wire::avp;
use crate::wire::kind::Kind;
use crate::wire::packet::{Code, Packet, build};

/// EAP-TTLS version 0 (RFC 5281).
#[derive(Debug)]
pub(crate) struct Ttls {
    tunnel: Tunnel,
    credential: Tunnelled,
    inner: Option<Responder>,
    room: usize,
    /// The proof that the server must give.
    expected: Option<Vec<u8>>,
    keys: Option<Keys>,
    done: bool,
}

impl Ttls {
    pub(crate) fn new(tls: &ClientTls, credential: Tunnelled, room: usize) -> Result<Self, Failure> {
        let tunnel = Tunnel::new(tls, Kind::TTLS, 0, room)?;
        Ok(Self { tunnel, credential, inner: None, room, expected: None, keys: None, done: false })
    }

    fn established(&mut self, cx: &mut Context<'_>) -> Turn {
        match self.tunnel.keys("ttls keying material") {
            Ok(keys) => self.keys = Some(keys),
            Err(failure) => return failure.into(),
        }
        if self.tunnel.about().resumed {
            self.done = !self.tunnel.is_1_3();
            return Turn::Response(self.tunnel.send(&[]));
        }
        match self.first_words(cx) {
            Ok(words) => Turn::Response(self.tunnel.send(&words)),
            Err(failure) => failure.into(),
        }
    }

    fn first_words(&mut self, cx: &mut Context<'_>) -> Result<Vec<u8>, Failure> {
        let mut bytes = Vec::new();
        let credential = self.credential.clone();
        if let Some(login) = credential.login() {
            avp::push(&mut bytes, avp::USER_NAME, login.name.as_bytes());
        }
        match &credential {
            Tunnelled::Password(login) => {
                let mut padded = login.password.expose().to_vec();
                padded.resize(padded.len().max(1).next_multiple_of(16), 0);
                avp::push(&mut bytes, avp::USER_PASSWORD, &padded);
                self.done = true;
            }
            Tunnelled::Chap(login) => {
                let (challenge, identifier) = self.challenge::<16>()?;
                let password = login.password.expose();
                let response =
                    Md5::new().chain_update([identifier]).chain_update(password).chain_update(challenge).finalize();
                avp::push(&mut bytes, avp::CHAP_CHALLENGE, &challenge);
                avp::push(&mut bytes, avp::CHAP_PASSWORD, &[&[identifier], &response[..]].concat());
                self.done = true;
            }
            Tunnelled::MsChap(login) => {
                let (challenge, identifier) = self.challenge::<8>()?;
                let response = mschap::challenge_response(&challenge, &mschap::nt_password_hash(login.text()));
                avp::push(&mut bytes, avp::MS_CHAP_CHALLENGE, &challenge);
                avp::push(&mut bytes, avp::MS_CHAP_RESPONSE, &[&[identifier, 1], &[0; 24][..], &response].concat());
                self.done = true;
            }
            Tunnelled::MsChapV2(login) => {
                let (challenge, identifier) = self.challenge::<16>()?;
                let peer_challenge = random_bytes(cx.random);
                let hash = mschap::nt_password_hash(login.text());
                let hashed = mschap::challenge_hash(&peer_challenge, &challenge, &login.name);
                let response = mschap::challenge_response(&hashed, &hash);
                let proof = mschap::authenticator_response(&mschap::hash_of_hash(&hash), &response, &hashed);
                self.expected = Some([&[identifier], proof.as_bytes()].concat());
                let value = [&[identifier, 0], &peer_challenge[..], &[0; 8], &response].concat();
                avp::push(&mut bytes, avp::MS_CHAP_CHALLENGE, &challenge);
                avp::push(&mut bytes, avp::MS_CHAP2_RESPONSE, &value);
            }
            Tunnelled::Eap(identity, method) => {
                self.inner = Some(Responder::new(identity, (**method).clone()));
                let packet = build(Code::Response, 0, Kind::IDENTITY, identity.as_bytes());
                avp::push(&mut bytes, avp::EAP_MESSAGE, &packet);
            }
        }
        Ok(bytes)
    }

    fn challenge<const N: usize>(&self) -> Result<([u8; N], u8), Failure> {
        let mut made = [0; 17];
        self.tunnel.export("ttls challenge", &mut made[..=N])?;
        let mut challenge = [0; N];
        challenge.copy_from_slice(&made[..N]);
        Ok((challenge, made[N]))
    }

    fn plain(&mut self, plain: &[u8], cx: &mut Context<'_>) -> Turn {
        if plain == COMMITMENT {
            self.done |= self.tunnel.about().resumed;
            return Turn::Response(self.tunnel.send(&[]));
        }
        let Some(list) = avp::parse_any(plain) else {
            return Failure::Malformed("the attributes in the TTLS tunnel do not fit").into();
        };
        if let Some(proof) = avp::first(&list, avp::MS_CHAP2_SUCCESS) {
            return match self.expected.as_deref() == Some(proof) {
                true => {
                    self.done = true;
                    Turn::Response(self.tunnel.send(&[]))
                }
                false => Failure::GaveUp("the server does not know the password").into(),
            };
        }
        let (Some(inner), Some(packet)) = (&mut self.inner, avp::first(&list, avp::EAP_MESSAGE)) else {
            return Failure::Unexpected("attributes out of turn in the TTLS tunnel").into();
        };
        let Ok(packet) = Packet::parse(packet) else {
            return Failure::Malformed("no EAP packet in the TTLS tunnel").into();
        };
        match inner.receive(&packet, self.room.saturating_sub(120), cx.random) {
            Reply::Send(answer) => {
                self.done = inner.is_done();
                let mut bytes = Vec::new();
                avp::push(&mut bytes, avp::EAP_MESSAGE, &answer);
                Turn::Response(self.tunnel.send(&bytes))
            }
            Reply::Failure(failure) => failure.into(),
            Reply::Success(_) | Reply::Ignore(_) => {
                inner.failure().unwrap_or(Failure::Unexpected("an inner message out of turn")).into()
            }
        }
    }
}

impl Tunnelled {
    fn login(&self) -> Option<&Login> {
        match self {
            Self::Password(login) | Self::Chap(login) | Self::MsChap(login) | Self::MsChapV2(login) => Some(login),
            Self::Eap(..) => None,
        }
    }
}

impl Method for Ttls {
    fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Turn {
        match self.tunnel.receive(data) {
            Event::Reply(reply) => Turn::Response(reply),
            Event::Failed(failure) => failure.into(),
            Event::Established => self.established(cx),
            Event::Plain(plain) if plain.is_empty() => Turn::Response(self.tunnel.send(&[])),
            Event::Plain(plain) => self.plain(&plain, cx),
        }
    }

    fn is_done(&self) -> bool {
        self.done
    }

    fn failure(&self) -> Option<Failure> {
        self.tunnel.failure().or_else(|| self.inner.as_ref().and_then(Responder::failure))
    }

    fn keys(&self) -> Option<Keys> {
        self.keys.clone()
    }

    fn tls(&self) -> Option<Arc<TlsAbout>> {
        Some(self.tunnel.about().clone())
    }
}
