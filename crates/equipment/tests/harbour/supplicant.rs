//! A supplicant behind quay-sw-1, and its logins as the harbour's people have them.

use regnant_certificates::Bundle;
use regnant_eap::{ClientTls, Keys, Login, Peer, PeerMethod, PeerStep, Tunnelled};
use regnant_evidence::*;
use regnant_radius::*;

use super::{AUTHENTICATOR, Answered, Harbour, POLICY, Request, SERVER};

pub(crate) const DEVICE: &str = "02-00-5E-10-00-01";

/// How a conversation ended at both ends.
pub(crate) struct End {
    pub(crate) record: Record,
    pub(crate) reply: Option<Vec<u8>>,
    pub(crate) keys: Option<Option<Keys>>,
}

impl End {
    pub(crate) fn grant(&self) -> String {
        assert!(self.keys.is_some(), "the supplicant believes it: {:?}", self.record.end());
        match &self.record.verdict() {
            VerdictRecord::Grant { grants, .. } => grants.join(", "),
            other => panic!("{other:?}: {}", self.record.reason()),
        }
    }

    pub(crate) fn refusal(&self) -> String {
        assert!(self.keys.is_none() && matches!(self.record.verdict(), VerdictRecord::Refuse { .. }));
        self.record.reason()
    }

    pub(crate) fn station(&self, name: &str) -> Station {
        let stations = self.record.trail().stations;
        stations.into_iter().find(|station| station.name == name).unwrap()
    }

    pub(crate) fn is_resumed(&self) -> bool {
        self.record.eap.as_ref().unwrap().tls.as_ref().is_some_and(|tls| tls.resumed)
    }
}

pub(crate) fn packet(eap: &[u8], state: Option<&[u8]>, device: &str, more: &[(&str, &str)]) -> Request {
    let secret = SharedSecret::new(*b"bollard-9-anchor");
    let mut builder = Builder::new(Code::ACCESS_REQUEST, 9);
    let attributes = [("User-Name", "anonymous"), ("Calling-Station-Id", device), ("NAS-Port-Type", "Ethernet")];
    let all = attributes.into_iter().chain(more.iter().copied());
    builder.encoded(&Dictionary::standard().encode(all).unwrap()).unwrap();
    builder.eap_message(eap).unwrap();
    if let Some(state) = state {
        builder.attribute(number::STATE, state).unwrap();
    }
    Request { from: "127.0.0.11", bytes: builder.request(&AUTHENTICATOR, &secret) }
}

pub(crate) fn run(harbour: &Harbour, method: PeerMethod) -> End {
    run_from(harbour, method, "anonymous@tarnmouth.example", DEVICE, &[])
}

pub(crate) fn run_from(harbour: &Harbour, method: PeerMethod, outer: &str, device: &str, more: &[(&str, &str)]) -> End {
    let mut count = 0u8;
    let random = Box::new(move |bytes: &mut [u8]| {
        bytes.iter_mut().for_each(|byte| {
            count = count.wrapping_mul(31).wrapping_add(7);
            *byte = count;
        });
    });
    let mut peer = Peer::new(outer, method, 1_000, random);
    let PeerStep::Send(mut eap) = peer.receive(&[1, 0, 0, 5, 1]) else { panic!("no identity") };
    let mut answered = harbour.ask(&packet(&eap, None, device, more));
    loop {
        match answered {
            Answered::Challenged(session, reply) => {
                let reply = check_reply(&reply, 9, &AUTHENTICATOR, &SharedSecret::new(*b"bollard-9-anchor")).unwrap();
                let state = reply.first(number::STATE).unwrap();
                match peer.receive(&reply.eap_message().unwrap()) {
                    PeerStep::Send(next) => eap = next,
                    other => panic!("{other:?}"),
                }
                answered = harbour.go_on(session, &packet(&eap, Some(state), device, more));
            }
            Answered::Decided(record, reply) => {
                let last = reply.as_ref().and_then(|reply| Packet::parse(reply).unwrap().eap_message());
                let keys = match last.map(|packet| peer.receive(&packet)) {
                    Some(PeerStep::Success(keys)) => Some(keys),
                    _ => None,
                };
                return End { record: *record, reply, keys };
            }
            Answered::Unheard(cause) => panic!("{cause}"),
        }
    }
}

pub(crate) fn client(harbour: &Harbour, own: Option<&Bundle>) -> ClientTls {
    let authorities = regnant_certificates::read_certificates(harbour.certificates.authority.certificate()).unwrap();
    let own = own.map(|own| (&own.chain[..], own.key.as_ref().unwrap().expose()));
    ClientTls::new(&authorities, SERVER, own, None).unwrap()
}

pub(crate) fn peap(harbour: &Harbour, name: &str, password: &str) -> PeerMethod {
    let inner = Box::new(PeerMethod::MsChapV2(Login::new(name, password)));
    PeerMethod::peap(client(harbour, None), name.into(), inner)
}

pub(crate) fn tls(harbour: &Harbour, own: &Bundle) -> PeerMethod {
    PeerMethod::Tls(client(harbour, Some(own)))
}

pub(crate) fn ida(harbour: &Harbour) -> Bundle {
    harbour.certificates.client("ida.marsh", &[], &["ida.marsh@tarnmouth.example"], 2)
}

pub(crate) fn laptop(harbour: &Harbour) -> Bundle {
    harbour.certificates.client("quay-laptop-7", &["quay-laptop-7.tarnmouth.example"], &[], 3)
}

/// The harbour's policy with a part of it written otherwise.
pub(crate) fn changed(from: &str, to: &str) -> Harbour {
    assert!(POLICY.contains(from), "{from}");
    Harbour::with_policy(&POLICY.replacen(from, to, 1))
}

pub(crate) fn teap(harbour: &Harbour, user: Option<(&str, &str)>, machine: Option<(&str, &str)>) -> PeerMethod {
    let inner = |(name, password): (&str, &str)| {
        Tunnelled::Eap(name.into(), Box::new(PeerMethod::MsChapV2(Login::new(name, password))))
    };
    PeerMethod::Teap { tls: client(harbour, None), user: user.map(inner), machine: machine.map(inner) }
}
