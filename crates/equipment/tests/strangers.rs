//! What bytes from anybody may do: nothing but be told.
use std::net::SocketAddr;
use std::sync::Arc;

use proptest::prelude::*;
use regnant_decision::{NasIdentity, NasKind};
use regnant_equipment::radius::{AcceptedAccounting, Claims, Credentials, accept_accounting, claims, secret_fits};
use regnant_equipment::{Nas, Vocabulary};
use regnant_evidence::{AccountingRecord, ReportStatus};
use regnant_radius::{Builder, Code, SharedSecret, number};
use ulid::Ulid;

fn secret() -> SharedSecret {
    SharedSecret::new(*b"bollard-9-anchor")
}

fn nas() -> Arc<Nas> {
    let identity = NasIdentity {
        name: "quay-sw-1".into(),
        kind: NasKind::Switch,
        site: "quay".into(),
        dialect: "standard".into(),
        tags: Arc::default(),
    };
    Arc::new(Nas::new(identity, vec!["127.0.0.11".parse().unwrap()]).with_radius(Credentials::new(secret())))
}

fn source() -> SocketAddr {
    "127.0.0.11:1".parse().unwrap()
}

#[test]
fn a_request_shows_what_it_claims_and_whose_secret_it_has() {
    let request = |signed: bool| {
        let mut builder = if signed { Builder::new } else { Builder::unsigned }(Code::ACCESS_REQUEST, 1);
        builder.attribute(number::NAS_IDENTIFIER, b"dock").unwrap();
        builder.attribute(number::NAS_IP_ADDRESS, &[10, 44, 0, 9]).unwrap();
        builder.attribute(number::NAS_PORT_TYPE, &[0, 0, 0, 19]).unwrap();
        builder.request(&[9; 16], &secret())
    };
    let expected = Claims {
        identifier: Some("dock".into()),
        address: Some([10, 44, 0, 9].into()),
        kind: Some(NasKind::Controller),
    };
    assert_eq!(claims(&request(true)), expected);
    let other = SharedSecret::new(*b"gantry-4-lashing");
    assert_eq!(
        (secret_fits(&request(true), &secret()), secret_fits(&request(true), &other)),
        (Some(true), Some(false))
    );
    assert_eq!(secret_fits(&request(false), &secret()), None);
    assert_eq!(claims(b"hello"), Claims::default());
}

proptest! {
    /// Whatever comes is a report, or is refused with a cause; a report reads as it was built.
    #[test]
    fn any_bytes_are_told_and_any_report_is_read(
        bytes in prop::collection::vec(any::<u8>(), 0..200),
        status in prop_oneof![0..20u32, any::<u32>()],
        sent in any::<u64>(),
        session in "[ -~]{0,60}",
        rest in prop::collection::vec((1..=u8::MAX, prop::collection::vec(any::<u8>(), 0..30)), 0..8),
    ) {
        claims(&bytes);
        secret_fits(&bytes, &secret());
        let _ = accept_accounting(Some(&nas()), source(), &bytes, 0);
        let mut builder = Builder::unsigned(Code::ACCOUNTING_REQUEST, 1);
        builder.attribute(number::ACCT_STATUS_TYPE, &status.to_be_bytes()).unwrap();
        builder.attribute(number::ACCT_SESSION_ID, session.as_bytes()).unwrap();
        builder.attribute(number::ACCT_INPUT_OCTETS, &(sent as u32).to_be_bytes()).unwrap();
        builder.attribute(number::ACCT_INPUT_GIGAWORDS, &((sent >> 32) as u32).to_be_bytes()).unwrap();
        for (number, value) in rest.iter().filter(|(number, _)| ![40, 80].contains(number)) {
            builder.attribute(*number, value).unwrap();
        }
        let packet = builder.accounting_request(&secret());
        prop_assert_eq!(secret_fits(&packet, &secret()), Some(true));
        let Ok(AcceptedAccounting::Report(accepted)) = accept_accounting(Some(&nas()), source(), &packet, 0) else {
            return Err(TestCaseError::fail("a report is refused"));
        };
        let report = accepted.report();
        let expected = match status {
            1 => ReportStatus::Start,
            2 => ReportStatus::Stop,
            3 => ReportStatus::Interim,
            7 => ReportStatus::On,
            8 => ReportStatus::Off,
            other => ReportStatus::Other(match other {
                9 => "Tunnel-Start".into(),
                10 => "Tunnel-Stop".into(),
                11 => "Tunnel-Reject".into(),
                12 => "Tunnel-Link-Start".into(),
                13 => "Tunnel-Link-Stop".into(),
                14 => "Tunnel-Link-Reject".into(),
                15 => "Failed".into(),
                number => format!("status {number}"),
            }),
        };
        prop_assert_eq!(report.status, expected);
        prop_assert_eq!((report.session.as_deref(), report.sent), (Some(session.as_str()), Some(sent)));
        accepted.response().unwrap();
        for at in 0..packet.len() {
            let mut changed = packet.clone();
            changed[at] ^= 1;
            prop_assert!(accept_accounting(Some(&nas()), source(), &changed, 0).is_err(), "byte {} may be changed", at);
        }
    }
}

/// A report with these attributes beside, as it is kept, and what its event is known again by.
fn kept(delay: u32, session: &str, from: &str) -> (AccountingRecord, [u8; 16]) {
    let mut builder = Builder::unsigned(Code::ACCOUNTING_REQUEST, 1);
    builder.attribute(number::ACCT_STATUS_TYPE, &1_u32.to_be_bytes()).unwrap();
    builder.attribute(number::ACCT_SESSION_ID, session.as_bytes()).unwrap();
    builder.attribute(number::ACCT_DELAY_TIME, &delay.to_be_bytes()).unwrap();
    let packet = builder.accounting_request(&secret());
    let Ok(AcceptedAccounting::Report(accepted)) = accept_accounting(Some(&nas()), from.parse().unwrap(), &packet, 0)
    else {
        panic!("a report is refused");
    };
    accepted.record(Ulid::nil(), accepted.report(), None, &Vocabulary::standard())
}

#[test]
fn what_is_sent_again_is_the_same_event_and_its_delay_is_told() {
    let (first, event) = kept(0, "one", "127.0.0.11:1");
    let (again, same) = kept(7, "one", "127.0.0.11:1");
    assert_eq!((same, again.report.delay), (event, 7));
    assert_ne!(kept(0, "two", "127.0.0.11:1").1, event);
    assert_ne!(kept(0, "one", "127.0.0.12:1").1, event, "another piece of equipment of the same NAS");
    let stations = first.stations(&Vocabulary::standard(), None);
    assert_eq!(stations[0].line, "Accounting-Request (Start) from 127.0.0.11:1 (quay-sw-1).");
    assert!(stations[0].evidence.iter().any(|clue| (&*clue.label, &*clue.value) == ("Acct-Session-Id", "one")));
}
