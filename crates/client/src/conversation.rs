use std::sync::Arc;

use regnant_eap::{Failure, Peer, PeerStep, TlsAbout};
use regnant_radius::{Code, Dictionary, Packet, SharedSecret, number, read_session_keys};

use crate::ask::{Ask, AskError, Credential, Supplicant};
use crate::requests::Make;

/// No conversation has more rounds.
const MOST_ROUNDS: usize = 200;

/// One login: a single request, or the rounds of EAP with a supplicant behind the
/// equipment.
pub struct Conversation {
    ask: Arc<Ask>,
    dictionary: Arc<Dictionary>,
    signed: bool,
    supplicant: Option<Box<SupplicantState>>,
}

struct SupplicantState {
    peer: Peer,
    /// The EAP packet that goes out next, and the State of the challenge that it answers.
    packet: Vec<u8>,
    state: Option<Vec<u8>>,
    view: SupplicantView,
}

/// How it looks from the supplicant.
#[derive(Clone, Debug, Default)]
pub struct SupplicantView {
    /// Requests that it answered.
    pub rounds: usize,
    /// Whether it believes that it is in.
    pub believed: bool,
    /// Whether the equipment was given the keys that the supplicant has; none
    /// where the method makes no keys.
    pub same_keys: Option<bool>,
    /// Why it is not in, as it sees it.
    pub failure: Option<Failure>,
    /// The TLS connection.
    pub tls: Option<Arc<TlsAbout>>,
}

/// What follows from a reply.
#[derive(Debug)]
pub enum Progress {
    /// Another request, to the same server.
    Next,
    /// It is over; with what the supplicant makes of it, where there is one.
    Done(Option<SupplicantView>),
    /// The supplicant has nothing more to say, and the server waits in vain.
    Silent,
    /// It goes on and on.
    Endless,
}

impl Conversation {
    /// A login. `signed` requests carry Message-Authenticator; EAP's always do.
    pub fn new(ask: Arc<Ask>, dictionary: Arc<Dictionary>, signed: bool) -> Self {
        let supplicant = match &ask.credential {
            Credential::Eap(supplicant) => Some(Box::new(SupplicantState::new(supplicant))),
            _ => None,
        };
        Self { ask, dictionary, signed, supplicant }
    }

    /// What makes the request that goes out next.
    pub fn request(&self) -> Make {
        let (ask, dictionary, signed) = (self.ask.clone(), self.dictionary.clone(), self.signed);
        let eap = self.supplicant.as_ref().map(|supplicant| (supplicant.packet.clone(), supplicant.state.clone()));
        Arc::new(move |identifier, authenticator, secret| -> Result<Vec<u8>, AskError> {
            match &eap {
                None => ask.packet(identifier, authenticator, secret, signed, &dictionary),
                Some((packet, state)) => {
                    let eap = (&packet[..], state.as_deref());
                    ask.conversation_packet(identifier, authenticator, secret, &dictionary, eap)
                }
            }
        })
    }

    /// Takes the reply to it, which was checked.
    pub fn reply(&mut self, reply: &Packet<'_>, authenticator: &[u8; 16], secret: &SharedSecret) -> Progress {
        let Some(supplicant) = &mut self.supplicant else { return Progress::Done(None) };
        let SupplicantState { peer, packet, state, view } = &mut **supplicant;
        view.rounds += 1;
        let said = reply.eap_message().map(|packet| peer.receive(&packet));
        if reply.code() == Code::ACCESS_CHALLENGE {
            *state = reply.first(number::STATE).map(<[u8]>::to_vec);
            return match said {
                Some(PeerStep::Send(next)) if view.rounds < MOST_ROUNDS => {
                    *packet = next;
                    Progress::Next
                }
                Some(PeerStep::Send(_)) => Progress::Endless,
                _ => Progress::Silent,
            };
        }
        match said {
            Some(PeerStep::Success(keys)) => {
                view.believed = true;
                view.same_keys = keys.map(|keys| {
                    let given = read_session_keys(reply, authenticator, secret);
                    let (first, second) = keys.msk.expose().split_at(32);
                    given.is_some_and(|(receive, send)| receive.expose() == first && send.expose() == second)
                });
            }
            Some(PeerStep::Failure(failure)) => view.failure = Some(failure),
            _ => {}
        }
        view.tls = peer.tls();
        Progress::Done(Some(std::mem::take(view)))
    }
}

impl SupplicantState {
    /// The equipment itself asks for the identity (RFC 3579 section 2.1).
    fn new(supplicant: &Supplicant) -> Self {
        let fill = Box::new(|bytes: &mut [u8]| getrandom::fill(bytes).expect("the system gives random bytes"));
        let mut peer = Peer::new(&supplicant.outer, supplicant.method.clone(), supplicant.room, fill);
        let packet = match peer.receive(&[1, 0, 0, 5, 1]) {
            PeerStep::Send(packet) => packet,
            _ => Vec::new(),
        };
        Self { peer, packet, state: None, view: SupplicantView::default() }
    }
}
