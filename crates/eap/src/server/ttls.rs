use std::sync::Arc;

use subtle::ConstantTimeEq;

use crate::crypto::mschap;
use crate::failure::Failure;
use crate::keys::{Keys, Secret};
use crate::server::credential::{Answer, Claim, Credential, LONG_NAME, LONGEST_NAME, MsChapResponse};
use crate::server::negotiation::{Negotiation, Progress};
use crate::server::peap::inside;
use crate::server::tls::COMMITMENT;
use crate::server::tunnel::{Event, Tunnel};
use crate::server::{Context, InnerOffer, Method, Offer, Turn};
use crate::tls::server::ServerTls;
use crate::wire::avp::{self, Code, Unread};
use crate::wire::kind::Kind;
use crate::wire::packet::Packet;

/// EAP-TTLS version 0 (RFC 5281; RFC 9427 for TLS 1.3).
#[derive(Debug)]
pub(crate) struct Ttls {
    tunnel: Tunnel,
    offers: Arc<[InnerOffer]>,
    inner: Negotiation,
    state: State,
    keys: Option<Keys>,
}

#[derive(Debug)]
enum State {
    Handshake,
    /// The tunnel is open and the peer speaks next.
    Open,
    /// An EAP method is at work inside.
    Inner,
    /// A password's check is awaited.
    Asked,
    /// The check of an MS-CHAP version 2 response is awaited.
    AskedMsChapV2 {
        identifier: u8,
        challenge: [u8; 8],
        response: [u8; 24],
    },
    /// The peer must believe our proof.
    Told,
    Proved,
    /// The verdict is to accept, and the inner method still has something to say.
    Ending,
    /// The last message is out.
    Indicated,
}

impl Ttls {
    pub(crate) fn new(tls: &ServerTls, offers: Arc<[InnerOffer]>, cx: &Context<'_>) -> Result<Self, Failure> {
        let eap: Arc<[Offer]> = offers
            .iter()
            .filter_map(|offer| match offer {
                InnerOffer::Eap(offer) => Some(offer.clone()),
                _ => None,
            })
            .collect();
        let tunnel = Tunnel::new(tls, Kind::TTLS, 0, false, cx)?;
        Ok(Self { tunnel, offers, inner: Negotiation::new(eap, 0), state: State::Handshake, keys: None })
    }

    fn established(&mut self, plain: &[u8], cx: &mut Context<'_>) -> Turn {
        match self.tunnel.keys("ttls keying material") {
            Ok(keys) => self.keys = Some(keys),
            Err(failure) => return failure.into(),
        }
        if self.tunnel.about().resumed {
            self.state = State::Proved;
            return Turn::Proved;
        }
        self.state = State::Open;
        match plain.is_empty() {
            // The peer has the word; an empty message hands it over.
            true => Turn::Request(self.tunnel.send(&[])),
            false => self.plain(plain, cx),
        }
    }

    fn plain(&mut self, plain: &[u8], cx: &mut Context<'_>) -> Turn {
        let list = match avp::parse(plain) {
            Ok(list) => list,
            Err(Unread::Malformed) => return Failure::Malformed("the attributes in the TTLS tunnel do not fit").into(),
            Err(Unread::Mandatory) => {
                return Failure::Unexpected("the TTLS tunnel carries a mandatory attribute that is not understood")
                    .into();
            }
        };
        let eap: Vec<u8> =
            list.iter().filter(|(code, _)| *code == avp::EAP_MESSAGE).flat_map(|(_, value)| *value).copied().collect();
        match self.state {
            State::Open if eap.is_empty() => self.credential(&list, cx),
            State::Open => {
                cx.about.begin_inner(None);
                self.state = State::Inner;
                self.packet(&eap, cx)
            }
            State::Inner | State::Ending if !eap.is_empty() => self.packet(&eap, cx),
            // Some peers say nothing in attributes rather than in an empty packet.
            State::Told => self.proved(cx),
            _ => Failure::Unexpected("attributes out of turn in the TTLS tunnel").into(),
        }
    }

    fn packet(&mut self, eap: &[u8], cx: &mut Context<'_>) -> Turn {
        self.work(cx, |inner, cx| match Packet::parse(eap) {
            Ok(packet) => inner.receive(&packet, cx),
            Err(_) => Progress::Failed(Failure::Malformed("no EAP packet in the TTLS tunnel")),
        })
    }

    fn credential(&mut self, list: &[(Code, &[u8])], cx: &mut Context<'_>) -> Turn {
        let name = avp::first(list, avp::USER_NAME).unwrap_or_default();
        if name.len() > LONGEST_NAME {
            return LONG_NAME.into();
        }
        let name = String::from_utf8_lossy(name).into_owned();
        cx.about.begin_inner(None);
        let (offer, method, credential) = match self.read(list, &name) {
            Ok(read) => read,
            Err(failure) => return failure.into(),
        };
        if let Some(inner) = cx.about.inner_now() {
            (inner.method, inner.identity) = (method.to_owned(), Some(name.clone()));
        }
        if !self.offers.iter().any(|known| std::mem::discriminant(known) == std::mem::discriminant(&offer)) {
            cx.about.end_inner(false);
            return Failure::NoCommonMethod { wanted: Vec::new() }.into();
        }
        Turn::Ask(Claim { name, identity_type: None, method, credential })
    }

    /// Which method the attributes are, and its credential.
    fn read(&mut self, list: &[(Code, &[u8])], name: &str) -> Result<(InnerOffer, &'static str, Credential), Failure> {
        let malformed = || Failure::Malformed("a credential in the TTLS tunnel has the wrong length");
        self.state = State::Asked;
        if let Some(password) = avp::first(list, avp::USER_PASSWORD) {
            let length = password.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
            return Ok((InnerOffer::Pap, "pap", Credential::Password(Secret::new(&password[..length]))));
        }
        if let Some(sent) = avp::first(list, avp::CHAP_PASSWORD) {
            let (implicit, identifier) = self.challenge::<16>(list, avp::CHAP_CHALLENGE)?;
            let (found, response) = sent.split_first().ok_or_else(malformed)?;
            let response = response.try_into().map_err(|_| malformed())?;
            same(&[*found], &[identifier])?;
            let credential = Credential::Md5 { identifier, challenge: implicit.to_vec(), response };
            return Ok((InnerOffer::Chap, "chap", credential));
        }
        if let Some(sent) = avp::first(list, avp::MS_CHAP_RESPONSE) {
            let (challenge, identifier) = self.challenge::<8>(list, avp::MS_CHAP_CHALLENGE)?;
            // Identifier, flags, the response of old, the response (RFC 2548 section 2.1.3).
            let (&[found, _], rest) = sent.split_first_chunk().ok_or_else(malformed)?;
            let response = rest.get(24..48).and_then(|bytes| bytes.try_into().ok()).ok_or_else(malformed)?;
            same(&[found], &[identifier])?;
            return Ok((InnerOffer::MsChap, "mschap", Credential::MsChap(MsChapResponse { challenge, response })));
        }
        if let Some(sent) = avp::first(list, avp::MS_CHAP2_RESPONSE) {
            let (implicit, identifier) = self.challenge::<16>(list, avp::MS_CHAP_CHALLENGE)?;
            // Identifier, flags, peer challenge, reserved, response (RFC 2548 section 2.3.2).
            let sent: &[u8; 50] = sent.try_into().map_err(|_| malformed())?;
            same(&sent[..1], &[identifier])?;
            let peer_challenge = sent[2..18].try_into().map_err(|_| malformed())?;
            let response = sent[26..].try_into().map_err(|_| malformed())?;
            let challenge = mschap::challenge_hash(&peer_challenge, &implicit, name);
            self.state = State::AskedMsChapV2 { identifier, challenge, response };
            return Ok((InnerOffer::MsChapV2, "mschapv2", Credential::MsChap(MsChapResponse { challenge, response })));
        }
        Err(Failure::Unexpected("no credential in the TTLS tunnel"))
    }

    /// Challenge and identifier that both ends take from the tunnel, so that
    /// nobody can bring a response from elsewhere (RFC 5281 section 11.1).
    fn challenge<const N: usize>(&self, list: &[(Code, &[u8])], code: Code) -> Result<([u8; N], u8), Failure> {
        let mut made = [0; 17];
        self.tunnel.export("ttls challenge", None, &mut made[..=N])?;
        let sent = avp::first(list, code).unwrap_or_default();
        same(sent, &made[..N])?;
        let mut challenge = [0; N];
        challenge.copy_from_slice(&made[..N]);
        Ok((challenge, made[N]))
    }

    fn proved(&mut self, cx: &mut Context<'_>) -> Turn {
        cx.about.end_inner(true);
        self.state = State::Proved;
        Turn::Proved
    }

    fn work(&mut self, cx: &mut Context<'_>, act: impl FnOnce(&mut Negotiation, &mut Context<'_>) -> Progress) -> Turn {
        let progress = act(&mut self.inner, &mut inside(cx));
        match progress {
            Progress::Send(packet) => {
                let mut bytes = Vec::new();
                avp::push(&mut bytes, avp::EAP_MESSAGE, &packet);
                Turn::Request(self.tunnel.send(&bytes))
            }
            Progress::Ask(claim) => Turn::Ask(claim),
            Progress::Proved => self.proved(cx),
            Progress::Succeeded => self.indicate(),
            Progress::Failed(failure) => {
                cx.about.end_inner(false);
                failure.into()
            }
            Progress::Ignore(why) => Failure::Unexpected(why).into(),
        }
    }

    /// With TLS 1.3 the peer is told through the tunnel (RFC 9427 section 3), and
    /// its ticket goes along.
    fn indicate(&mut self) -> Turn {
        if !self.tunnel.is_1_3() {
            return Turn::Success;
        }
        self.state = State::Indicated;
        Turn::Request(self.tunnel.send(COMMITMENT))
    }
}

/// What the peer sent must be what the tunnel gave.
fn same(sent: &[u8], made: &[u8]) -> Result<(), Failure> {
    if bool::from(sent.ct_eq(made)) { Ok(()) } else { Err(Failure::Binding) }
}

impl Method for Ttls {
    fn kind(&self) -> Kind {
        Kind::TTLS
    }

    fn begin(&mut self, _: &mut Context<'_>) -> Turn {
        Turn::Request(self.tunnel.start(&[]))
    }

    fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Turn {
        match (self.tunnel.receive(data, cx), &self.state) {
            (Event::Reply(reply), _) => Turn::Request(reply),
            (Event::Failed(failure), _) => failure.into(),
            (Event::Established(plain), _) => self.established(&plain, cx),
            (Event::Plain(plain), _) => self.plain(&plain, cx),
            (Event::Acknowledged, State::Told) => self.proved(cx),
            (Event::Acknowledged, State::Indicated) => Turn::Success,
            _ => Failure::Unexpected("a message out of turn in EAP-TTLS").into(),
        }
    }

    fn answer(&mut self, answer: Answer, cx: &mut Context<'_>) -> Turn {
        match (&self.state, answer) {
            (State::Inner, answer) => self.work(cx, |inner, cx| inner.answer(answer, cx)),
            (State::Asked, Answer::Right { .. }) => self.proved(cx),
            (State::AskedMsChapV2 { identifier, challenge, response }, Answer::Right { session_key: Some(hash) }) => {
                let Ok(hash) = <[u8; 16]>::try_from(hash.expose()) else { return Failure::Credential.into() };
                let proof = mschap::authenticator_response(&hash, response, challenge);
                let mut bytes = Vec::new();
                avp::push(&mut bytes, avp::MS_CHAP2_SUCCESS, &[&[*identifier], proof.as_bytes()].concat());
                self.state = State::Told;
                Turn::Request(self.tunnel.send(&bytes))
            }
            _ => {
                cx.about.end_inner(false);
                Failure::Credential.into()
            }
        }
    }

    fn conclude(&mut self, accept: bool, cx: &mut Context<'_>) -> Turn {
        if !accept {
            return Failure::Refused.into();
        }
        // An EAP method inside may have a protected indication of its own.
        if self.inner.is_held() {
            self.state = State::Ending;
            return self.work(cx, |inner, cx| inner.conclude(true, cx));
        }
        self.indicate()
    }

    fn keys(&self) -> Option<Keys> {
        self.keys.clone()
    }

    fn failing(&self) -> Option<Failure> {
        self.tunnel.failing()
    }

    fn may_need_public_key(&self) -> bool {
        self.tunnel.may_need_public_key() || self.inner.may_need_public_key()
    }
}
