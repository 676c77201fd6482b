//! Which revocation lists speak of which certificates, and who vouches at all.
mod common;

use std::time::SystemTime;

use common::*;
use rcgen::{CrlDistributionPoint, CrlIssuingDistributionPoint, CrlScope, date_time_ymd};
use regnant_eap::*;

const NAME: &str = "Tarnmouth Demo Root";

fn judged(authorities: &[&Authority], lists: &[Vec<u8>], chain: &[&[u8]]) -> Result<(), CertificateFault> {
    let authorities: Vec<_> = authorities.iter().map(|authority| authority.der.clone()).collect();
    let trust = Trust::new(&authorities, lists, Judgement::by(&[Source::Crl])).unwrap();
    trust.judge(&Chain::new(chain.iter().map(|der| der.to_vec()).collect()), SystemTime::now())
}

const UNKNOWN: Result<(), CertificateFault> = Err(CertificateFault::RevocationUnknown);
const REVOKED: Result<(), CertificateFault> = Err(CertificateFault::Revoked);

fn partial(authority: &Authority, serial: u64, uri: &str, scope: Option<CrlScope>) -> Vec<u8> {
    let distribution_point = CrlDistributionPoint { uris: vec![uri.into()] };
    authority.list(serial, |list| {
        list.issuing_distribution_point = Some(CrlIssuingDistributionPoint { distribution_point, scope });
    })
}

#[test]
fn a_list_of_one_point_speaks_of_the_certificates_that_name_it() {
    let authority = Authority::new(NAME);
    let naming = |uri: Option<&str>| {
        let own = authority.issue("ida.marsh", |params| {
            params.serial_number = Some(66u64.into());
            params.crl_distribution_points =
                uri.iter().map(|uri| CrlDistributionPoint { uris: vec![(*uri).into()] }).collect();
        });
        own.chain[0].clone()
    };
    let list = |serial| partial(&authority, serial, "http://tarnmouth.example/a.crl", None);
    let (here, there, nowhere) =
        (naming(Some("http://tarnmouth.example/a.crl")), naming(Some("http://tarnmouth.example/b.crl")), naming(None));
    assert_eq!(judged(&[&authority], &[list(1)], &[&here]), Ok(()));
    assert_eq!(judged(&[&authority], &[list(66)], &[&here]), REVOKED);
    for other in [&there, &nowhere] {
        assert_eq!(judged(&[&authority], &[list(1)], &[other]), UNKNOWN, "it is about others");
        assert_eq!(judged(&[&authority], &[list(66)], &[other]), UNKNOWN, "in both directions");
        assert_eq!(judged(&[&authority], &[list(66), authority.revoke(1)], &[other]), Ok(()), "a whole list speaks");
    }
}

#[test]
fn a_list_of_authorities_or_of_users_alone_says_nothing_of_the_others() {
    let authority = Authority::new(NAME);
    let uri = "http://tarnmouth.example/x.crl";
    let point = || vec![CrlDistributionPoint { uris: vec![uri.into()] }];
    let middle = authority.delegate("Tarnmouth Machines", |params| {
        params.serial_number = Some(5u64.into());
        params.crl_distribution_points = point();
        params.key_usages = vec![rcgen::KeyUsagePurpose::KeyCertSign, rcgen::KeyUsagePurpose::CrlSign];
    });
    let direct = authority.issue("ida.marsh", |params| {
        params.serial_number = Some(6u64.into());
        params.crl_distribution_points = point();
    });
    let below = middle.issue("quay-laptop-7", |_| {});
    let list = |serial, scope| partial(&authority, serial, uri, Some(scope));
    let (users, authorities) = (CrlScope::UserCertsOnly, CrlScope::CaCertsOnly);
    assert_eq!(judged(&[&authority], &[list(1, users)], &[&direct.chain[0]]), Ok(()));
    assert_eq!(judged(&[&authority], &[list(1, authorities)], &[&direct.chain[0]]), UNKNOWN);
    assert_eq!(judged(&[&authority], &[list(6, authorities)], &[&direct.chain[0]]), UNKNOWN);
    let of_middle = || middle.revoke(1);
    let both = [&below.chain[0][..], &middle.der[..]];
    let judged = |lists: &[Vec<u8>]| judged(&[&authority, &middle], lists, &both);
    // The path may end at the middle authority, which is trusted itself.
    assert_eq!(judged(&[of_middle(), list(1, authorities)]), Ok(()));
}

#[test]
fn a_list_is_in_force_from_its_time_and_speaks_for_its_own_key() {
    let authority = Authority::new(NAME);
    let own = authority.issue("ida.marsh", |params| params.serial_number = Some(66u64.into()));
    let early = |serial| authority.list(serial, |list| list.this_update = date_time_ymd(2095, 1, 1));
    assert_eq!(judged(&[&authority], &[early(1)], &[&own.chain[0]]), UNKNOWN);
    assert_eq!(judged(&[&authority], &[early(66)], &[&own.chain[0]]), UNKNOWN);
    // Somebody else of the same name, trusted beside it, says nothing of its certificates.
    let namesake = Authority::new(NAME);
    assert_eq!(judged(&[&authority, &namesake], &[namesake.revoke(1)], &[&own.chain[0]]), UNKNOWN);
    assert_eq!(judged(&[&authority, &namesake], &[namesake.revoke(66)], &[&own.chain[0]]), UNKNOWN);
    assert_eq!(judged(&[&authority, &namesake], &[authority.revoke(66)], &[&own.chain[0]]), REVOKED);
    // The same key under a renewed certificate does.
    let renewed = authority.again(NAME, |params| params.serial_number = Some(9u64.into()));
    assert_eq!(judged(&[&renewed], &[authority.revoke(1)], &[&own.chain[0]]), Ok(()));
}

#[test]
fn an_authority_that_has_expired_vouches_for_nobody() {
    let expired = Authority::new(NAME).again(NAME, |params| params.not_after = date_time_ymd(2020, 1, 1));
    let own = expired.issue("ida.marsh", |_| {});
    let lists = [expired.revoke(1)];
    assert_eq!(judged(&[&expired], &lists, &[&own.chain[0]]), Err(CertificateFault::AuthorityExpired));
    let early = expired.again(NAME, |params| params.not_before = date_time_ymd(2095, 1, 1));
    assert_eq!(judged(&[&early], &lists, &[&own.chain[0]]), Err(CertificateFault::AuthorityExpired));
    let renewed = expired.again(NAME, |_| {});
    assert_eq!(judged(&[&expired, &renewed], &lists, &[&own.chain[0]]), Ok(()), "its successor does");
}

#[test]
fn a_certificate_that_is_no_authority_vouches_for_nobody_unless_somebody_said_so() {
    let authority = Authority::new(NAME);
    let server = authority.issue("radius.tarnmouth.example", |_| {});
    let now = SystemTime::now();
    let plain = Trust::new(&[server.chain[0].clone()], &[], Judgement::default()).unwrap();
    assert_eq!(plain.judge(&server.presented(), now), Err(CertificateFault::UnknownIssuer));
    assert!(is_authority(&authority.der) && !is_authority(&server.chain[0]));
    assert!(Trust::whatever(&[server.chain[0].clone()], &[], Judgement::default()).is_ok());
}

/// A responder that never heard of any certificate.
#[derive(Debug)]
struct NeverHeard;

impl Standings for NeverHeard {
    fn of(&self, _: &[u8; 32], _: u64) -> Option<Standing> {
        Some(Standing::Unknown)
    }
}

#[test]
fn a_responder_that_never_heard_of_a_certificate_is_not_one_that_is_silent() {
    let authority = Authority::new(NAME);
    let own = authority.issue("ida.marsh", |_| {});
    let judged = |judgement: Judgement, lists: &[Vec<u8>]| {
        let trust = Trust::new(std::slice::from_ref(&authority.der), lists, judgement).unwrap();
        trust.with_responder(std::sync::Arc::new(NeverHeard), None).judge(&own.presented(), SystemTime::now())
    };
    let lenient = || Judgement::by(&[Source::Ocsp]).passing_unknown();
    assert_eq!(judged(lenient(), &[]), UNKNOWN);
    let then_list = Judgement::by(&[Source::Ocsp, Source::Crl]);
    assert_eq!(judged(then_list, &[authority.revoke(1)]), Ok(()), "who knows decides");
}
