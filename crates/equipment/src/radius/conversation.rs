//! EAP over RADIUS (RFC 3579): each packet of a conversation in a request or a reply,
//! bound together by State.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use regnant_decision::{Carriage, Decided, EapSession, Ending, Progress, Resources, Times};
use regnant_eap::{Keys, Limits};
use regnant_evidence::Decision;
use regnant_radius::number;
use ulid::Ulid;

use crate::edition::ActiveEdition;
use crate::radius::accept::AcceptedRequest;
use crate::radius::decide::{Handled, decision};
use crate::radius::exchange::Signed;
use crate::radius::reply::{self, Beside, EapReply};
use crate::radius::request::RadiusRequest;

/// Headers of EAP over the link; what remains of Framed-MTU is for the packet.
const LINK_OVERHEAD: usize = 4;
const SMALLEST_PACKET: usize = 256;
/// A reply with its other attributes should fit one Ethernet frame.
const LARGEST_PACKET: usize = 1_300;

/// A conversation in progress.
#[derive(Debug)]
pub struct Conversation {
    id: Ulid,
    first: Arc<RadiusRequest>,
    session: Box<EapSession>,
}

/// The request of a conversation that is dealt with now.
struct Round<'r> {
    id: Ulid,
    first: Arc<RadiusRequest>,
    accepted: &'r AcceptedRequest,
    resources: &'r Resources<'r>,
}

impl Conversation {
    pub(crate) async fn begin(
        id: Ulid,
        asked: RadiusRequest,
        active: &ActiveEdition,
        (gate, times): (usize, Times),
        resources: &Resources<'_>,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> Handled {
        let first = Arc::new(asked);
        let packet = first.accepted.eap_packet();
        let carriage = Carriage {
            packet: longest_packet(&first.accepted),
            session_id: first.accepted.packet().first(number::EAP_KEY_NAME).is_some(),
        };
        let progress = EapSession::begin(
            first.clone(),
            &packet,
            active.policy.clone(),
            (gate, times),
            (carriage, id.timestamp_ms()),
            resources,
            elapsed,
        )
        .await;
        let asked = first.clone();
        Round { id, first, accepted: &asked.accepted, resources }.answer(progress, elapsed)
    }

    /// Goes on with the next packet. `elapsed` tells the time since the first.
    pub async fn go_on(
        self: Box<Self>,
        accepted: AcceptedRequest,
        resources: &Resources<'_>,
        elapsed: impl Fn() -> Duration + Send + Sync,
    ) -> Handled {
        let Self { id, first, session } = *self;
        let progress = session.go_on(&accepted.eap_packet(), resources, &elapsed).await;
        Round { id, first, accepted: &accepted, resources }.answer(progress, &elapsed)
    }

    /// The end of a conversation that its peer left.
    pub fn abandon(self) -> Decision {
        let Self { id, first, session } = self;
        ended(id, first, session.abandon(), None, Duration::ZERO)
    }

    /// Where its first packet came from.
    pub fn source(&self) -> SocketAddr {
        self.first.accepted.source
    }

    /// The NAS that it goes through.
    pub fn nas(&self) -> &str {
        &self.first.accepted.nas.name
    }

    /// Whether this request may want public-key cryptography, which takes a hundred
    /// times as long as anything else here.
    pub fn may_need_public_key(&self, accepted: &AcceptedRequest) -> bool {
        self.session.may_need_public_key(accepted.packet().first(number::EAP_MESSAGE).unwrap_or_default())
    }

    /// Whether its verdict has fallen.
    pub fn has_verdict(&self) -> bool {
        self.session.has_verdict()
    }

    /// The bytes that it holds: what its state takes, about, and all that came from
    /// its peer.
    pub fn bytes(&self) -> usize {
        self.session.bytes()
    }
}

impl Round<'_> {
    fn answer(self, progress: Progress, elapsed: &(impl Fn() -> Duration + Send + Sync)) -> Handled {
        let (decided, reply) = match progress {
            Progress::Challenge { packet, ignored, session } => {
                let mut state = [0; 16];
                (self.resources.random)(&mut state);
                match reply::challenge(self.accepted, &packet, &state, ignored) {
                    Ok(reply) => {
                        let conversation = Box::new(Conversation { id: self.id, first: self.first, session });
                        return Handled::Challenge { reply, state, conversation };
                    }
                    Err(why) => (session.ended_by(Ending::Unanswerable(why)), None),
                }
            }
            Progress::Accept { packet, keys, grants, mut session } => {
                match self.acceptance(&packet, keys.as_ref(), grants, &mut session) {
                    Ok(reply) => (session.accepted(keys.is_some(), self.resources), Some(reply)),
                    Err(why) => (session.ended_by(Ending::Unanswerable(why)), None),
                }
            }
            Progress::Refuse { packet, session, ending } => match reply::refusal(self.accepted, Some(&packet), None) {
                Ok(reply) => (session.ended_by(ending), Some(reply.into())),
                Err(why) => (session.ended_by(Ending::Unanswerable(why)), None),
            },
            Progress::Silence(decided) => (*decided, None),
        };
        Handled::Decided(Box::new(ended(self.id, self.first, decided, reply, elapsed())))
    }

    fn acceptance(
        &self,
        packet: &[u8],
        keys: Option<&Keys>,
        grants: usize,
        session: &mut EapSession,
    ) -> Result<Signed, String> {
        // Access without its attributes would be more than was granted.
        let (edition, attributes) = (&self.first.edition, self.first.attributes(grants)?);
        let salts = reply::salts(self.resources.random);
        let (wanted, dictionary) = (edition.secrets(grants), edition.vocabulary.dictionary());
        // The reply is to this request, and hidden under its authenticator.
        let secrets = self.first.secrets.attributes(wanted, self.accepted, dictionary, salts)?;
        let (first, known) = (&self.first.accepted, session.known());
        let proved = known.user.proved().or_else(|| known.machine.proved());
        let asked = first.packet().first(number::USER_NAME).and_then(|name| std::str::from_utf8(name).ok());
        let name = proved.map(|proved| proved.account.name.as_str());
        let beside = Beside {
            eap: Some(EapReply { packet, keys, salts }),
            user_name: reply::user_name(session.gate(), asked, known.details.outer.as_deref(), name),
            chargeable: reply::chargeable(first, self.resources.secret, proved, &known.device),
            class: reply::class(first, edition, self.first.read.purpose, (self.id, self.resources.secret)),
            secrets,
            ms_chap: None,
        };
        reply::acceptance(self.accepted, attributes, &beside)
    }
}

fn ended(
    id: Ulid,
    first: Arc<RadiusRequest>,
    decided: Decided,
    reply: Option<Signed>,
    replied_at: Duration,
) -> Decision {
    // The session that shared it is over.
    decision(id, Arc::unwrap_or_clone(first), decided, Ok(reply), replied_at)
}

fn longest_packet(accepted: &AcceptedRequest) -> usize {
    let told = accepted.packet().first(number::FRAMED_MTU).and_then(|bytes| <[u8; 4]>::try_from(bytes).ok());
    match told.map(u32::from_be_bytes) {
        Some(mtu) => (mtu as usize).saturating_sub(LINK_OVERHEAD).clamp(SMALLEST_PACKET, LARGEST_PACKET),
        None => Limits::default().packet,
    }
}
