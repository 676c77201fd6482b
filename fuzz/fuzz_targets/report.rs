//! Any bytes on the accounting port: taken as a report or refused with a cause, read, kept and
//! told; and what is told of a stranger by them. The sender knows the secret, so that everything behind it is reached.
#![no_main]

use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::{Arc, LazyLock};

use libfuzzer_sys::fuzz_target;
use regnant_decision::{NasIdentity, NasKind};
use regnant_equipment::radius::{
    AcceptedAccounting, Credentials, DecisionClass, accept_accounting, claims, secret_fits,
};
use regnant_equipment::{Nas, Vocabulary};
use regnant_evidence::AccountingRecord;
use regnant_radius::{Builder, Code, SharedSecret, number};
use ulid::Ulid;

static VOCABULARY: LazyLock<Vocabulary> = LazyLock::new(Vocabulary::standard);
static SECRET: LazyLock<SharedSecret> = LazyLock::new(|| SharedSecret::new(*b"bollard-9-anchor"));
static NAS: LazyLock<Arc<Nas>> = LazyLock::new(|| {
    let identity = NasIdentity {
        name: "quay-sw-1".into(),
        kind: NasKind::Switch,
        site: "quayside".into(),
        dialect: "standard".into(),
        tags: Arc::default(),
    };
    let network = "127.0.0.11".parse().expect("it is an address");
    Arc::new(Nas::new(identity, vec![network]).with_radius(Credentials::new(SECRET.clone())))
});

fn take(bytes: &[u8]) {
    let source = SocketAddr::new(IpAddr::V4(Ipv4Addr::new(127, 0, 0, 11)), 1);
    let Ok(AcceptedAccounting::Report(accepted)) = accept_accounting(Some(&NAS), source, bytes, 0) else { return };
    let _ = accepted.response();
    for class in accepted.packet().all(number::CLASS) {
        assert_eq!(DecisionClass::decision(class, &[7; 32]), None);
    }
    let (record, _) = accepted.record(Ulid::nil(), accepted.report(), None, &VOCABULARY);
    record.sentence();
    record.stations(&*VOCABULARY, None);
    assert_eq!(AccountingRecord::from_bytes(Ulid::nil(), &record.to_bytes()), Ok(record));
}

fuzz_target!(|bytes: &[u8]| {
    claims(bytes);
    secret_fits(bytes, &SECRET);
    take(bytes);
    let mut builder = Builder::unsigned(Code::ACCOUNTING_REQUEST, 1);
    if builder.attribute(number::ACCT_STATUS_TYPE, &[0, 0, 0, 2]).and_then(|()| builder.encoded(bytes)).is_ok() {
        take(&builder.accounting_request(&SECRET));
    }
});
