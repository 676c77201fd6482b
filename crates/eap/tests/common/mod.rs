//! Two ends and a link between them; an authority that issues what they need.
#![allow(dead_code)]

use std::collections::HashMap;
use std::sync::{Arc, Mutex};

use rcgen::{
    BasicConstraints, CertificateParams, CertificateRevocationListParams, ExtendedKeyUsagePurpose, IsCa, Issuer,
    KeyIdMethod, KeyPair, KeyUsagePurpose, RevokedCertParams, SerialNumber, date_time_ymd,
};
use regnant_eap::*;

pub(crate) const SERVER: &str = "radius.tarnmouth.example";

/// An authority of the test's own.
pub(crate) struct Authority {
    issuer: Issuer<'static, KeyPair>,
    pub(crate) der: Vec<u8>,
}

/// A certificate with its key.
#[derive(Clone)]
pub(crate) struct Identity {
    pub(crate) chain: Vec<Vec<u8>>,
    pub(crate) key: Vec<u8>,
}

impl Identity {
    /// Its certificates as the other end gets them.
    pub(crate) fn presented(&self) -> Chain {
        Chain::new(self.chain.clone())
    }
}

impl Authority {
    pub(crate) fn new(name: &str) -> Self {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::new(Vec::new()).unwrap();
        params.distinguished_name.push(rcgen::DnType::CommonName, name);
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        let certificate = params.self_signed(&key).unwrap();
        Self { der: certificate.der().to_vec(), issuer: Issuer::new(params, key) }
    }

    /// An authority below this one.
    pub(crate) fn delegate(&self, name: &str, change: impl FnOnce(&mut CertificateParams)) -> Self {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::new(Vec::new()).unwrap();
        params.distinguished_name.push(rcgen::DnType::CommonName, name);
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        change(&mut params);
        let certificate = params.signed_by(&key, &self.issuer).unwrap();
        Self { der: certificate.der().to_vec(), issuer: Issuer::new(params, key) }
    }

    pub(crate) fn issue(&self, name: &str, change: impl FnOnce(&mut CertificateParams)) -> Identity {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::new(vec![name.to_owned()]).unwrap();
        params.distinguished_name.push(rcgen::DnType::CommonName, name);
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth, ExtendedKeyUsagePurpose::ServerAuth];
        change(&mut params);
        let certificate = params.signed_by(&key, &self.issuer).unwrap();
        Identity { chain: vec![certificate.der().to_vec()], key: key.serialize_der() }
    }

    pub(crate) fn revoke(&self, serial: u64) -> Vec<u8> {
        self.list(serial, |_| {})
    }

    /// A revocation list with one serial number, made otherwise.
    pub(crate) fn list(&self, serial: u64, change: impl FnOnce(&mut CertificateRevocationListParams)) -> Vec<u8> {
        let revoked = RevokedCertParams {
            serial_number: SerialNumber::from(serial),
            revocation_time: date_time_ymd(2026, 1, 1),
            reason_code: None,
            invalidity_date: None,
        };
        let mut params = CertificateRevocationListParams {
            this_update: date_time_ymd(2026, 1, 1),
            next_update: date_time_ymd(2096, 1, 1),
            crl_number: SerialNumber::from(1),
            issuing_distribution_point: None,
            revoked_certs: vec![revoked],
            key_identifier_method: KeyIdMethod::Sha256,
        };
        change(&mut params);
        params.signed_by(&self.issuer).unwrap().der().to_vec()
    }

    /// The same key once more, under a certificate that is made otherwise.
    pub(crate) fn again(&self, name: &str, change: impl FnOnce(&mut CertificateParams)) -> Self {
        let key = KeyPair::try_from(self.issuer.key().serialize_der()).unwrap();
        let mut params = CertificateParams::new(Vec::new()).unwrap();
        params.distinguished_name.push(rcgen::DnType::CommonName, name);
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        change(&mut params);
        let certificate = params.self_signed(&key).unwrap();
        Self { der: certificate.der().to_vec(), issuer: Issuer::new(params, key) }
    }
}

/// The server's side of a test: its authority, its certificate, its sessions.
pub(crate) struct House {
    pub(crate) authority: Authority,
    pub(crate) tls: ServerTls,
    pub(crate) sessions: Arc<Table>,
}

#[derive(Debug, Default)]
pub(crate) struct Table(pub(crate) Mutex<HashMap<Vec<u8>, Vec<u8>>>);

impl Sessions for Table {
    fn put(&self, handle: Vec<u8>, session: Vec<u8>) -> bool {
        self.0.lock().unwrap().insert(handle, session);
        true
    }

    fn get(&self, handle: &[u8]) -> Option<Vec<u8>> {
        self.0.lock().unwrap().get(handle).cloned()
    }
}

impl House {
    pub(crate) fn new() -> Self {
        Self::with_trust(&[], Judgement::default())
    }

    pub(crate) fn with_trust(revoked: &[u64], judgement: Judgement) -> Self {
        let authority = Authority::new("Tarnmouth Demo Root");
        let own = authority.issue(SERVER, |_| {});
        let lists: Vec<_> = revoked.iter().map(|serial| authority.revoke(*serial)).collect();
        let trust = Trust::new(std::slice::from_ref(&authority.der), &lists, judgement).unwrap();
        let tls = ServerTls::new(&own.chain, &own.key, None, Some(Arc::new(trust))).unwrap();
        Self { authority, tls, sessions: Arc::default() }
    }

    pub(crate) fn client(&self, own: Option<&Identity>, only: Option<TlsVersion>) -> ClientTls {
        let own = own.map(|own| (&own.chain[..], &own.key[..]));
        ClientTls::new(std::slice::from_ref(&self.authority.der), SERVER, own, only).unwrap()
    }

    pub(crate) fn serve(&self, offers: Vec<Offer>, seed: u64) -> Conversation {
        let limits = Limits { packet: 700, retries: 1, session_id: true, ..Limits::default() };
        Conversation::new(offers.into(), Some(self.sessions.clone()), limits, random(seed))
    }
}

/// Numbers that look random and are the same in every run.
pub(crate) fn random(seed: u64) -> Random {
    let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    Box::new(move |bytes| {
        for byte in bytes {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            *byte = (state >> 32) as u8;
        }
    })
}

pub(crate) const NAME: &str = "ida.marsh";
pub(crate) const PASSWORD: &str = "Tide-Table-61";

pub(crate) fn login() -> Login {
    Login::new(NAME, PASSWORD)
}

/// What a store would say: everybody has the same password.
pub(crate) fn check(claim: &Claim) -> Answer {
    if claim.name == "nobody" {
        return Answer::Wrong;
    }
    match &claim.credential {
        Credential::Change(change) => match change.open(&mschap::nt_password_hash(PASSWORD)) {
            Some(password) => {
                let hash = mschap::nt_password_hash(std::str::from_utf8(password.expose()).unwrap());
                Answer::Right { session_key: Some(Secret::new(mschap::hash_of_hash(&hash))) }
            }
            None => Answer::Wrong,
        },
        credential if claim.name == "expired" => match credential.check_password(PASSWORD.as_bytes()) {
            Answer::Right { .. } => Answer::Expired,
            other => other,
        },
        credential => credential.check_password(PASSWORD.as_bytes()),
    }
}

/// How a conversation ended at both ends.
#[derive(Debug)]
pub(crate) struct End {
    pub(crate) server: Result<Option<Keys>, Failure>,
    pub(crate) peer: Result<Option<Keys>, Failure>,
    pub(crate) claims: Vec<Claim>,
    pub(crate) about: About,
    pub(crate) rounds: usize,
    pub(crate) verdicts: usize,
}

impl End {
    /// Success at both ends with the same keys.
    pub(crate) fn keys(&self) -> Option<&Keys> {
        let (server, peer) = (self.server.as_ref(), self.peer.as_ref());
        let (Ok(server), Ok(peer)) = (server, peer) else { panic!("{self:?}") };
        assert_eq!(server, peer, "{:?}", self.about);
        server.as_ref()
    }

    pub(crate) fn failed(&self) -> (&Failure, &Failure) {
        match (&self.server, &self.peer) {
            (Err(server), Err(peer)) => (server, peer),
            _ => panic!("{self:?}"),
        }
    }
}

/// Runs a conversation to its end over a link that loses nothing.
pub(crate) fn run(server: Conversation, peer: &mut Peer) -> End {
    run_with(server, peer, true, check)
}

pub(crate) fn run_with(
    mut server: Conversation,
    peer: &mut Peer,
    accept: bool,
    mut check: impl FnMut(&Claim) -> Answer,
) -> End {
    let (mut claims, mut rounds, mut verdicts) = (Vec::new(), 0, 0);
    let mut step = server.begin();
    loop {
        step = match step {
            Step::Send(packet) => {
                rounds += 1;
                assert!(rounds < 150 && packet.len() <= 1_200, "{rounds} rounds, {} bytes", packet.len());
                match peer.receive(&packet) {
                    PeerStep::Send(answer) => server.receive(&answer),
                    PeerStep::Ignore(why) => {
                        // A peer whose method failed says no more; the server gives up in time.
                        let PeerStep::Failure(failure) = peer.receive(&server.failure_packet()) else {
                            panic!("ignored: {why}; {:?}", server.about())
                        };
                        let server_end = Err(Failure::GaveUp("silence"));
                        let about = server.about().clone();
                        return End { server: server_end, peer: Err(failure), claims, about, rounds, verdicts };
                    }
                    PeerStep::Success(_) | PeerStep::Failure(_) => panic!("an end before the end"),
                }
            }
            Step::Ask(claim) => {
                let answer = check(&claim);
                claims.push(claim);
                server.answer(answer)
            }
            Step::Verdict => {
                verdicts += 1;
                server.conclude(accept)
            }
            Step::Accept(packet, keys) => {
                let peer = match peer.receive(&packet) {
                    PeerStep::Success(keys) => Ok(keys),
                    PeerStep::Failure(failure) => Err(failure),
                    other => panic!("{other:?} after success; {:?}", server.about()),
                };
                return End { server: Ok(keys), peer, claims, about: server.about().clone(), rounds, verdicts };
            }
            Step::Refuse(packet, failure) => {
                let peer = match peer.receive(&packet) {
                    PeerStep::Failure(failure) => Err(failure),
                    other => panic!("{other:?} after {failure:?}"),
                };
                let about = server.about().clone();
                return End { server: Err(failure), peer, claims, about, rounds, verdicts };
            }
            Step::Ignore(why) => panic!("ignored: {why}; {:?}", server.about()),
        };
    }
}

pub(crate) fn peer(method: PeerMethod) -> Peer {
    let outer = match method.kind() {
        Kind::TTLS | Kind::PEAP | Kind::TEAP => "anonymous@tarnmouth.example",
        _ => NAME,
    };
    Peer::new(outer, method, 700, random(77))
}

pub(crate) fn inner(method: PeerMethod) -> Tunnelled {
    Tunnelled::Eap(NAME.into(), Box::new(method))
}
