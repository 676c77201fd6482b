//! A secret that is changed while its NAS goes on asking.

use std::net::SocketAddr;
use std::sync::Arc;

use regnant_decision::{NasIdentity, NasKind};
use regnant_equipment::radius::{AcceptedAccounting, Credentials, FormerSecret, accept, accept_accounting};
use regnant_equipment::{Heard, Nas};
use regnant_evidence::{Cause, HeardMarks};
use regnant_radius::{Builder, Code, Packet, SharedSecret, check_accounting_reply, check_reply, number};

const SET: u64 = 1_000_000;
const UNTIL: u64 = 2_000_000;

fn old() -> SharedSecret {
    SharedSecret::new(*b"bollard-9-anchor")
}

fn new() -> SharedSecret {
    SharedSecret::new(*b"lanyard-7-shackle")
}

fn nas(require: bool, heard: &Arc<Heard>) -> Arc<Nas> {
    let identity = NasIdentity {
        name: "quay-sw-1".into(),
        kind: NasKind::Switch,
        site: "quay".into(),
        dialect: "standard".into(),
        tags: Arc::default(),
    };
    let former = Some(FormerSecret { secret: old(), since: SET, until: UNTIL });
    let credentials = Credentials { former, require_message_authenticator: require, ..Credentials::new(new()) };
    let known = Nas::new(identity, vec!["127.0.0.11".parse().unwrap()]).with_radius(credentials);
    Arc::new(Nas { heard: heard.clone(), ..known })
}

fn source() -> SocketAddr {
    "127.0.0.11:1".parse().unwrap()
}

fn signed(code: Code, secret: &SharedSecret) -> Vec<u8> {
    Builder::new(code, 7).request(&[9; 16], secret)
}

fn report(secret: &SharedSecret) -> Vec<u8> {
    let mut builder = Builder::unsigned(Code::ACCOUNTING_REQUEST, 1);
    builder.attribute(number::ACCT_STATUS_TYPE, &1_u32.to_be_bytes()).unwrap();
    builder.accounting_request(secret)
}

#[test]
fn both_secrets_count_until_the_first_request_under_the_new_one() {
    let heard = Arc::default();
    let nas = nas(true, &heard);
    let asks = |secret: &SharedSecret, now| accept(Some(&nas), source(), &signed(Code::ACCESS_REQUEST, secret), now);
    asks(&old(), SET + 1).unwrap();
    assert!(asks(&SharedSecret::new(*b"another"), SET + 1).is_err());
    assert!(matches!(asks(&old(), UNTIL), Err(Cause::SecretDiffers { .. })), "the time is over");
    assert!(!heard.has_switched(SET));
    asks(&new(), SET + 2).unwrap();
    assert!(heard.has_switched(SET) && !heard.has_switched(SET + 1));
    assert!(matches!(asks(&old(), SET + 3), Err(Cause::SecretDiffers { .. })), "it has the new one");
}

#[test]
fn reports_and_status_end_it_too_and_are_answered_under_their_own_secret() {
    for under_new in [false, true] {
        let heard = Arc::default();
        let nas = nas(true, &heard);
        let secret = if under_new { new() } else { old() };
        let bytes = report(&secret);
        let Ok(AcceptedAccounting::Report(accepted)) = accept_accounting(Some(&nas), source(), &bytes, SET + 1) else {
            panic!("a report is refused")
        };
        let response = accepted.response().unwrap();
        let request = Packet::parse(&bytes).unwrap();
        assert!(check_accounting_reply(&response, 1, request.authenticator(), &secret).is_ok());
        assert_eq!(heard.has_switched(SET), under_new);
        assert_eq!(accept_accounting(Some(&nas), source(), &report(&old()), SET + 2).is_ok(), !under_new);
    }
    let heard = Arc::default();
    let nas = nas(true, &heard);
    let status = signed(Code::STATUS_SERVER, &old());
    let answer = accept(Some(&nas), source(), &status, SET + 1).unwrap().status().unwrap();
    assert!(check_reply(&answer, 7, &[9; 16], &old()).is_ok());
    assert!(matches!(
        accept_accounting(Some(&nas), source(), &status, SET + 1),
        Ok(AcceptedAccounting::Status(answer)) if check_reply(&answer, 7, &[9; 16], &old()).is_ok()
    ));
}

#[test]
fn whether_a_nas_signs_is_known_since_the_last_request_that_did_not() {
    let heard = Arc::new(Heard::restored(HeardMarks { signed_since: 5, ..HeardMarks::default() }));
    let nas = nas(false, &heard);
    let unsigned = Builder::unsigned(Code::ACCESS_REQUEST, 7).request(&[9; 16], &new());
    let ask = |bytes: &[u8], now| accept(Some(&nas), source(), bytes, now).map(drop);
    ask(&unsigned, 100_000).unwrap();
    assert_eq!(heard.marks(), HeardMarks { signed_since: 0, unsigned_at: 100_000, switched: 0 });
    // To within a minute, so that a flood writes nothing.
    ask(&unsigned, 100_900).unwrap();
    assert_eq!(heard.marks().unsigned_at, 100_000);
    for now in [200_000, 300_000] {
        ask(&signed(Code::ACCESS_REQUEST, &new()), now).unwrap();
    }
    assert_eq!(heard.marks().signed_since, 200_000);
    // Somebody else's secret says nothing of it.
    ask(&signed(Code::ACCESS_REQUEST, &SharedSecret::new(*b"another")), 400_000).unwrap_err();
    assert_eq!(heard.marks(), HeardMarks { signed_since: 200_000, unsigned_at: 100_000, switched: SET });
}
