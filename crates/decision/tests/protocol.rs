//! A decision from end to end without any equipment, in a protocol that is made up.

mod typed;

use std::sync::Arc;
use std::time::Duration;

use regnant_decision::*;
use regnant_eap::{Login, Peer, PeerMethod, PeerStep};
use regnant_policy::IdentityKind;
use typed::{Crew, House, POLICY, Typed, now, typed};

#[test]
fn a_typed_question_is_decided_by_its_own_facts() {
    let house = House::new();
    let (day, night) = ("day", "night");
    let ended = |shift, name, password| house.decide(&typed(shift, name, password)).ending;
    let granted = Ending::Granted { by: Decider::Rule(0), grants: 0 };
    assert_eq!(ended(night, "ida.marsh", "Tide-Table-61"), granted);
    let text = Some("Come back at night.".to_owned());
    assert_eq!(
        ended(day, "ida.marsh", "Tide-Table-61"),
        Ending::Refused { by: Because::Decider(Decider::Otherwise), text }
    );
    let by = Because::Proof(IdentityKind::User, regnant_policy::Event::Failed);
    assert_eq!(ended(night, "ida.marsh", "x"), Ending::Refused { by, text: None });
    let nothing = Typed { presented: Presented::Nothing, ..typed(night, "ida.marsh", "") };
    assert_eq!(house.decide(&nothing).ending, Ending::Refused { by, text: None });
    let chap = Typed { carrier: Carrier::Chap, ..typed(night, "ida.marsh", "Tide-Table-61") };
    assert_eq!(house.decide(&chap).ending, Ending::Unfit(Unfit::MethodNotAccepted));
}

/// Whoever can fill our own room must not bring about what the policy gives in an outage.
#[test]
fn an_answer_of_our_own_that_comes_late_is_no_outage() {
    let policy = POLICY.replace("identify user in crew", "identify user in crew { unreachable continue }").replace(
        "otherwise refuse",
        "rule \"Outage\" { when user.failure = \"unreachable\" grant network }\n      otherwise refuse",
    );
    let ended = |at_hand| {
        let house = House::with(&policy, Crew::NeverAnswers { at_hand });
        house.decide(&typed("day", "ida.marsh", "Tide-Table-61")).ending
    };
    assert_eq!(ended(false), Ending::Granted { by: Decider::Rule(1), grants: 0 });
    let no_room = Because::Proof(IdentityKind::User, regnant_policy::Event::NoRoom);
    assert_eq!(ended(true), Ending::Silent { by: no_room });
}

#[test]
fn a_conversation_needs_no_equipment_either() {
    let house = House::new();
    let converse = |password: &str| {
        let first: Arc<dyn KeptRequest> = Arc::new(Typed { carrier: Carrier::Eap, ..typed("night", "ida.marsh", "") });
        let login = Login::new("ida.marsh", password);
        let mut peer =
            Peer::new("ida.marsh", PeerMethod::Md5(login), 1_000, Box::new(|bytes: &mut [u8]| bytes.fill(9)));
        let resources = house.resources();
        let elapsed = || Duration::ZERO;
        let PeerStep::Send(mut packet) = peer.receive(&[1, 0, 0, 5, 1]) else { panic!("no identity") };
        let carriage = Carriage { packet: 1_000, session_id: false };
        let (active, start) = (house.active.clone(), (0, Times::default()));
        let mut progress = now(EapSession::begin(first, &packet, active, start, (carriage, 0), &resources, &elapsed));
        loop {
            progress = match progress {
                Progress::Challenge { packet: next, session, .. } => {
                    match peer.receive(&next) {
                        PeerStep::Send(answer) => packet = answer,
                        other => panic!("{other:?}"),
                    }
                    now(session.go_on(&packet, &resources, &elapsed))
                }
                Progress::Accept { packet, session, grants, .. } => {
                    assert!(matches!(peer.receive(&packet), PeerStep::Success(_)));
                    assert_eq!(grants, 0);
                    return session.accepted(false, &resources).ending;
                }
                Progress::Refuse { packet, session, ending } => {
                    assert!(matches!(peer.receive(&packet), PeerStep::Failure(_)));
                    return session.ended_by(ending).ending;
                }
                Progress::Silence(decided) => return decided.ending,
            };
        }
    };
    assert_eq!(converse("Tide-Table-61"), Ending::Granted { by: Decider::Rule(0), grants: 0 });
    let by = Because::Proof(IdentityKind::User, regnant_policy::Event::Failed);
    assert_eq!(converse("x"), Ending::Refused { by, text: None });
}
