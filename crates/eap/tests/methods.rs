//! Every method, both ends, over a link that loses nothing.
mod common;

use std::sync::Arc;

use common::*;
use regnant_eap::*;

const VERSIONS: [TlsVersion; 2] = [TlsVersion::Tls12, TlsVersion::Tls13];

#[test]
fn methods_without_a_tunnel_succeed_and_their_keys_agree() {
    let house = House::new();
    let offers = || vec![Offer::Md5, Offer::MsChapV2, Offer::Gtc];
    for (method, keys) in
        [(PeerMethod::Md5(login()), false), (PeerMethod::MsChapV2(login()), true), (PeerMethod::Gtc(login()), false)]
    {
        let kind = method.kind();
        let end = run(house.serve(offers(), 1), &mut peer(method));
        assert_eq!(end.keys().is_some(), keys);
        assert_eq!((end.claims[0].name.as_str(), end.verdicts), (NAME, 1));
        assert_eq!(end.about.method, Some(kind));
    }
}

#[test]
fn eap_tls_proves_a_certificate_under_both_versions() {
    let house = House::new();
    let own = house.authority.issue("ida.marsh", |_| {});
    for version in VERSIONS {
        let client = house.client(Some(&own), Some(version));
        let end = run(house.serve(vec![Offer::Tls(house.tls.clone())], 2), &mut peer(PeerMethod::Tls(client)));
        let keys = end.keys().unwrap();
        assert_eq!(keys.msk.expose().len(), 64);
        assert_eq!(keys.session_id.len(), 65);
        let tls = end.about.tls.as_ref().unwrap();
        assert_eq!((tls.version, tls.resumed), (Some(version), false));
        assert_eq!(tls.certificates.ders(), own.chain);
        assert!(end.claims.is_empty());
    }
}

fn tunnelled_eap(house: &House) -> Vec<(Offer, PeerMethod)> {
    let own = house.authority.issue("ida.marsh", |_| {});
    vec![
        (Offer::MsChapV2, PeerMethod::MsChapV2(login())),
        (Offer::Gtc, PeerMethod::Gtc(login())),
        (Offer::Md5, PeerMethod::Md5(login())),
        (Offer::Tls(house.tls.clone()), PeerMethod::Tls(house.client(Some(&own), Some(TlsVersion::Tls12)))),
        (Offer::Tls(house.tls.clone()), PeerMethod::Tls(house.client(Some(&own), Some(TlsVersion::Tls13)))),
    ]
}

#[test]
fn peap_carries_every_inner_method_and_is_bound_to_it() {
    let house = House::new();
    for version in VERSIONS {
        for (offer, method) in tunnelled_eap(&house) {
            let kind = method.kind();
            let offers = vec![Offer::peap(house.tls.clone(), [offer].into())];
            let method = PeerMethod::peap(house.client(None, Some(version)), NAME.into(), Box::new(method));
            let end = run(house.serve(offers, 3), &mut peer(method));
            assert_eq!(end.keys().unwrap().msk.expose().len(), 64);
            assert_eq!(end.about.bound, Some(true));
            assert_eq!(end.about.identity.as_deref(), Some("anonymous@tarnmouth.example"));
            let inner = &end.about.inner[0];
            assert_eq!((inner.identity.as_deref(), inner.outcome), (Some(NAME), InnerOutcome::Proved));
            assert_eq!(inner.method, kind.to_string());
        }
    }
}

#[test]
fn ttls_carries_every_inner_method() {
    let house = House::new();
    let plain = [
        (InnerOffer::Pap, Tunnelled::Password(login())),
        (InnerOffer::Chap, Tunnelled::Chap(login())),
        (InnerOffer::MsChap, Tunnelled::MsChap(login())),
        (InnerOffer::MsChapV2, Tunnelled::MsChapV2(login())),
    ];
    for version in VERSIONS {
        let eap = tunnelled_eap(&house).into_iter().map(|(offer, method)| (InnerOffer::Eap(offer), inner(method)));
        for (offer, method) in plain.iter().cloned().chain(eap) {
            let offers = vec![Offer::Ttls(house.tls.clone(), [offer].into())];
            let method = PeerMethod::Ttls(house.client(None, Some(version)), method);
            let end = run(house.serve(offers, 4), &mut peer(method));
            assert_eq!(end.keys().unwrap().msk.expose().len(), 64);
            assert_eq!(end.about.inner[0].outcome, InnerOutcome::Proved);
        }
    }
}

fn teap(house: &House, inner: Vec<Offer>, identities: &[IdentityType]) -> Vec<Offer> {
    vec![Offer::Teap { tls: house.tls.clone(), inner: inner.into(), identities: identities.into() }]
}

const BOTH: [IdentityType; 2] = [IdentityType::Machine, IdentityType::User];

#[test]
fn teap_proves_user_machine_or_both_with_every_inner_method() {
    let house = House::new();
    for version in VERSIONS {
        for (offer, method) in tunnelled_eap(&house) {
            let tunnelled = inner(method);
            for (user, machine, proved) in [(true, false, 1), (false, true, 1), (true, true, 2)] {
                let method = PeerMethod::Teap {
                    tls: house.client(None, Some(version)),
                    user: user.then(|| tunnelled.clone()),
                    machine: machine.then(|| tunnelled.clone()),
                };
                let end = run(house.serve(teap(&house, vec![offer.clone()], &BOTH), 5), &mut peer(method));
                assert!(end.keys().unwrap().emsk.is_some());
                assert_eq!(end.about.bound, Some(true));
                assert_eq!(end.about.inner.len(), proved, "{:?}", end.about.inner);
                assert!(end.about.inner.iter().all(|inner| inner.outcome == InnerOutcome::Proved));
                let types: Vec<_> = end.about.inner.iter().filter_map(|inner| inner.identity_type).collect();
                let expected: Vec<_> =
                    BOTH.into_iter().filter(|kind| if *kind == IdentityType::User { user } else { machine }).collect();
                assert_eq!(types, expected);
            }
        }
    }
}

#[test]
fn teap_takes_a_password_without_an_inner_method() {
    let house = House::new();
    for version in VERSIONS {
        let method = PeerMethod::Teap {
            tls: house.client(None, Some(version)),
            user: Some(Tunnelled::Password(login())),
            machine: None,
        };
        let end = run(house.serve(teap(&house, Vec::new(), &[IdentityType::User]), 6), &mut peer(method));
        assert!(end.keys().is_some());
        assert_eq!(end.claims[0].method, "password");
    }
}

#[test]
fn a_machine_that_fails_in_teap_leaves_the_user_a_try() {
    let house = House::new();
    let wrong = Tunnelled::Eap(
        "host/quay-laptop-7".into(),
        Box::new(PeerMethod::MsChapV2(Login::new("host/quay-laptop-7", "wrong"))),
    );
    let method = PeerMethod::Teap {
        tls: house.client(None, None),
        user: Some(inner(PeerMethod::MsChapV2(login()))),
        machine: Some(wrong),
    };
    let end = run(house.serve(teap(&house, vec![Offer::MsChapV2], &BOTH), 7), &mut peer(method));
    end.keys().unwrap();
    let outcomes: Vec<_> = end.about.inner.iter().map(|inner| inner.outcome).collect();
    assert_eq!(outcomes, [InnerOutcome::Failed, InnerOutcome::Proved]);
}

/// One way to run each tunnel and EAP-TLS again and again.
fn resumable(house: &House, version: TlsVersion) -> Vec<(Vec<Offer>, PeerMethod)> {
    let own = house.authority.issue("ida.marsh", |_| {});
    let client = || house.client(None, Some(version));
    let method = || Box::new(PeerMethod::MsChapV2(login()));
    vec![
        (vec![Offer::Tls(house.tls.clone())], PeerMethod::Tls(house.client(Some(&own), Some(version)))),
        (
            vec![Offer::peap(house.tls.clone(), [Offer::MsChapV2].into())],
            PeerMethod::peap(client(), NAME.into(), method()),
        ),
        (
            vec![Offer::Ttls(house.tls.clone(), [InnerOffer::Pap].into())],
            PeerMethod::Ttls(client(), Tunnelled::Password(login())),
        ),
        (
            teap(house, vec![Offer::MsChapV2], &[IdentityType::User]),
            PeerMethod::Teap { tls: client(), user: Some(inner(*method())), machine: None },
        ),
    ]
}

#[test]
fn sessions_are_resumed_three_times_over_and_each_wants_a_verdict() {
    for version in VERSIONS {
        let house = House::new();
        for (offers, method) in resumable(&house, version) {
            for turn in 0..4 {
                let end = run(house.serve(offers.clone(), 8 + turn), &mut peer(method.clone()));
                end.keys().unwrap();
                let tls = end.about.tls.as_ref().unwrap();
                assert_eq!(tls.resumed, turn > 0, "{:?} {version}, turn {turn}", method.kind());
                assert_eq!(end.verdicts, 1);
                assert_eq!(end.claims.is_empty(), turn > 0 || method.kind() == Kind::TLS);
            }
        }
    }
}

#[test]
fn a_verdict_to_refuse_ends_badly_at_both_ends_and_before_any_promise() {
    for version in VERSIONS {
        let house = House::new();
        for (offers, method) in resumable(&house, version) {
            // A fresh session, then a resumed one.
            for turn in 0..2 {
                let end = run_with(house.serve(offers.clone(), 20), &mut peer(method.clone()), turn == 0, check);
                match turn {
                    0 => drop(end.keys()),
                    _ => assert_eq!(end.failed().0, &Failure::Refused),
                }
            }
            let full = run_with(house.serve(offers.clone(), 21), &mut peer(method.clone()), false, check);
            assert_eq!(full.failed().0, &Failure::Refused);
        }
    }
}

#[test]
fn eap_tls_1_3_tells_a_peer_that_is_refused_by_an_alert() {
    let house = House::new();
    let own = house.authority.issue("crane-7.tarnmouth.example", |_| {});
    let method = |version| PeerMethod::Tls(house.client(Some(&own), Some(version)));
    let refused = |version, seed| {
        let server = house.serve(vec![Offer::Tls(house.tls.clone())], seed);
        let end = run_with(server, &mut peer(method(version)), false, check);
        assert_eq!(end.failed().0, &Failure::Refused);
        end.failed().1.clone()
    };
    let alert = Failure::Tls(TlsFailure::AlertReceived { name: "access_denied".into() });
    assert_eq!(refused(TlsVersion::Tls13, 22), alert);
    // Its handshake was over, so that nothing can be said in it any more.
    assert_ne!(refused(TlsVersion::Tls12, 23), alert);
    // The ticket that waited was never sent: the peer has nothing to come back with.
    let method = method(TlsVersion::Tls13);
    for (accept, resumed) in [(false, false), (true, false), (false, true)] {
        let server = house.serve(vec![Offer::Tls(house.tls.clone())], 24);
        let end = run_with(server, &mut peer(method.clone()), accept, check);
        assert_eq!(end.about.tls.as_ref().unwrap().resumed, resumed);
        assert_eq!(end.peer.err(), (!accept).then(|| alert.clone()));
    }
}

#[test]
fn a_wrong_password_fails_everywhere() {
    let house = House::new();
    let wrong = || Login::new(NAME, "Tide-Table-62");
    let client = || house.client(None, None);
    let inside = |method| Tunnelled::Eap(NAME.into(), Box::new(method));
    let cases = vec![
        (vec![Offer::Md5], PeerMethod::Md5(wrong())),
        (vec![Offer::Gtc], PeerMethod::Gtc(wrong())),
        (vec![Offer::MsChapV2], PeerMethod::MsChapV2(wrong())),
        (
            vec![Offer::peap(house.tls.clone(), [Offer::MsChapV2].into())],
            PeerMethod::peap(client(), NAME.into(), Box::new(PeerMethod::MsChapV2(wrong()))),
        ),
        (
            vec![Offer::Ttls(house.tls.clone(), [InnerOffer::MsChapV2].into())],
            PeerMethod::Ttls(client(), Tunnelled::MsChapV2(wrong())),
        ),
        (
            teap(&house, vec![Offer::MsChapV2], &BOTH),
            PeerMethod::Teap { tls: client(), user: Some(inside(PeerMethod::MsChapV2(wrong()))), machine: None },
        ),
        (
            teap(&house, Vec::new(), &BOTH),
            PeerMethod::Teap { tls: client(), user: Some(Tunnelled::Password(wrong())), machine: None },
        ),
    ];
    for (offers, method) in cases {
        let kind = method.kind();
        let end = run(house.serve(offers, 9), &mut peer(method));
        assert_eq!(end.failed().0, &Failure::Credential, "{kind}");
        assert_eq!(end.verdicts, 0);
    }
}

#[test]
fn a_second_try_is_taken_and_a_third_is_not() {
    let house = House::new();
    for (right_at, succeeds) in [(1, true), (2, false)] {
        let mut tries = 0;
        // The peer answers a failure with the same password; the store changes its mind.
        let mut server = house.serve(vec![Offer::MsChapV2], 10);
        let mut step = server.begin();
        let mut peer = peer(PeerMethod::MsChapV2(login()));
        let mut challenge = None;
        let outcome = loop {
            step = match step {
                Step::Send(packet) => {
                    let failure = Packet::parse(&packet).unwrap();
                    match (failure.kind, failure.data.first()) {
                        (Some(Kind::MSCHAPV2), Some(4)) if failure.data.windows(3).any(|part| part == b"R=1") => {
                            // Type again: a response to the new challenge.
                            let text = String::from_utf8_lossy(&failure.data[4..]).into_owned();
                            let hex = text.split(' ').find_map(|part| part.strip_prefix("C=")).unwrap().to_owned();
                            let bytes: Vec<u8> =
                                (0..16).map(|at| u8::from_str_radix(&hex[2 * at..2 * at + 2], 16).unwrap()).collect();
                            let mut again = vec![1, failure.data[1], 0, 21, 16];
                            again.extend(bytes);
                            challenge = Some(again);
                            let mut request = packet[..5].to_vec();
                            request.extend(challenge.as_ref().unwrap());
                            let length = request.len() as u16;
                            request[2..4].copy_from_slice(&length.to_be_bytes());
                            match peer.receive(&request) {
                                PeerStep::Send(answer) => server.receive(&answer),
                                other => panic!("{other:?}"),
                            }
                        }
                        _ => match peer.receive(&packet) {
                            PeerStep::Send(answer) => server.receive(&answer),
                            other => panic!("{other:?}"),
                        },
                    }
                }
                Step::Ask(claim) => {
                    tries += 1;
                    server.answer(if tries > right_at { check(&claim) } else { Answer::Wrong })
                }
                Step::Verdict => server.conclude(true),
                Step::Accept(..) => break true,
                Step::Refuse(_, failure) => {
                    assert_eq!(failure, Failure::Credential);
                    break false;
                }
                Step::Ignore(why) => panic!("{why}"),
            };
        };
        assert!(challenge.is_some());
        assert_eq!((outcome, tries), (succeeds, 2));
    }
}

#[test]
fn a_password_that_has_expired_can_be_changed_on_the_way() {
    let house = House::new();
    let mut login = Login::new("expired", PASSWORD);
    login.new_password = Some(Secret::new("Capstan-Grease-52"));
    let mut peer = Peer::new("expired", PeerMethod::MsChapV2(login), 700, random(3));
    let end = run(house.serve(vec![Offer::MsChapV2], 11), &mut peer);
    assert!(end.keys().is_some());
    assert!(matches!(end.claims[1].credential, Credential::Change(_)));
}

#[test]
fn the_method_is_negotiated_in_our_order_and_failing_that_refused() {
    let house = House::new();
    let offers = vec![Offer::Tls(house.tls.clone()), Offer::Md5, Offer::MsChapV2];
    let end = run(house.serve(offers, 12), &mut peer(PeerMethod::MsChapV2(login())));
    end.keys().unwrap();
    assert_eq!(end.about.turned_down, [(Kind::TLS, vec![Kind::MSCHAPV2])]);
    let end = run(house.serve(vec![Offer::Md5], 13), &mut peer(PeerMethod::Gtc(login())));
    assert_eq!(end.failed().0, &Failure::NoCommonMethod { wanted: vec![Kind::GTC] });
}

#[test]
fn certificates_are_judged_in_the_handshake_and_the_alert_says_why() {
    let house = House::with_trust(&[66], Judgement::by(&[Source::Crl]).passing_unknown());
    let foreign = Authority::new("Another Harbour");
    let issue = |change: fn(&mut rcgen::CertificateParams)| house.authority.issue("tom.reed", change);
    let cases = [
        (issue(|p| p.not_after = rcgen::date_time_ymd(2020, 1, 1)), CertificateFault::Expired, "certificate_expired"),
        (
            issue(|p| p.not_before = rcgen::date_time_ymd(2090, 1, 1)),
            CertificateFault::NotYetValid,
            "certificate_expired",
        ),
        (issue(|p| p.serial_number = Some(66u64.into())), CertificateFault::Revoked, "certificate_revoked"),
        (foreign.issue("tom.reed", |_| {}), CertificateFault::UnknownIssuer, "unknown_ca"),
        (
            issue(|p| p.extended_key_usages = vec![rcgen::ExtendedKeyUsagePurpose::ServerAuth]),
            CertificateFault::WrongPurpose,
            "",
        ),
        (issue(|p| p.key_usages = vec![rcgen::KeyUsagePurpose::KeyAgreement]), CertificateFault::WrongPurpose, ""),
    ];
    for version in VERSIONS {
        for (own, fault, alert) in &cases {
            let client = house.client(Some(own), Some(version));
            let end = run(house.serve(vec![Offer::Tls(house.tls.clone())], 14), &mut peer(PeerMethod::Tls(client)));
            let (server, peer) = end.failed();
            assert_eq!(server, &Failure::Tls(TlsFailure::Certificate(*fault)));
            let Failure::Tls(TlsFailure::AlertReceived { name }) = peer else { panic!("{peer:?}") };
            assert!(name == alert || alert.is_empty(), "{name} for {fault:?}");
            assert_eq!(end.about.tls.as_ref().unwrap().certificates.ders(), own.chain, "what was presented is kept");
        }
    }
}

#[test]
fn an_issuer_without_a_list_passes_or_not_as_the_trust_says() {
    for (judgement, passes) in
        [(Judgement::by(&[Source::Crl]).passing_unknown(), true), (Judgement::by(&[Source::Crl]), false)]
    {
        let house = House::with_trust(&[], judgement);
        let own = house.authority.issue("ida.marsh", |_| {});
        let method = PeerMethod::Tls(house.client(Some(&own), None));
        let end = run(house.serve(vec![Offer::Tls(house.tls.clone())], 15), &mut peer(method));
        match passes {
            true => drop(end.keys()),
            false => {
                let fault = Failure::Tls(TlsFailure::Certificate(CertificateFault::RevocationUnknown));
                assert_eq!(end.failed().0, &fault);
            }
        }
    }
}

#[test]
fn a_peer_that_does_not_trust_us_says_so() {
    let house = House::new();
    let other = Authority::new("Another Harbour");
    for version in VERSIONS {
        let client = ClientTls::new(std::slice::from_ref(&other.der), SERVER, None, Some(version)).unwrap();
        let method = PeerMethod::Ttls(client, Tunnelled::Password(login()));
        let offers = vec![Offer::Ttls(house.tls.clone(), [InnerOffer::Pap].into())];
        let end = run(house.serve(offers, 16), &mut peer(method));
        let (server, peer) = end.failed();
        assert_eq!(server, &Failure::Tls(TlsFailure::AlertReceived { name: "unknown_ca".into() }));
        assert_eq!(peer, &Failure::Tls(TlsFailure::Certificate(CertificateFault::UnknownIssuer)));
    }
}

#[test]
fn a_peer_without_a_certificate_is_told_apart() {
    let house = House::new();
    for version in VERSIONS {
        let method = PeerMethod::Tls(house.client(None, Some(version)));
        let end = run(house.serve(vec![Offer::Tls(house.tls.clone())], 17), &mut peer(method));
        assert_eq!(end.failed().0, &Failure::Tls(TlsFailure::NoCertificate));
    }
}

#[test]
fn names_of_every_form_are_read_from_a_certificate() {
    let authority = Authority::new("Tarnmouth Demo Root");
    let own = authority.issue("quay-laptop-7.tarnmouth.example", |params| {
        let upn = rcgen::OtherNameValue::Utf8String("ida.marsh@tarnmouth.example".into());
        params.subject_alt_names.push(rcgen::SanType::OtherName((vec![1, 3, 6, 1, 4, 1, 311, 20, 2, 3], upn)));
        params.subject_alt_names.push(rcgen::SanType::Rfc822Name("ida@tarnmouth.example".try_into().unwrap()));
    });
    let read = Certificate::read(&own.chain[0]).unwrap();
    assert_eq!(read.name(NameForm::SanUpn), Some("ida.marsh@tarnmouth.example"));
    assert_eq!(read.name(NameForm::SanEmail), Some("ida@tarnmouth.example"));
    assert_eq!(read.name(NameForm::SanDns), Some("quay-laptop-7.tarnmouth.example"));
    assert_eq!(read.issuer_common_name.as_deref(), Some("Tarnmouth Demo Root"));
    assert!(!read.authority && Certificate::read(&authority.der).unwrap().authority);
    assert_eq!(read.usages, ["server authentication", "client authentication"]);
}

#[test]
fn a_list_that_its_issuer_did_not_sign_is_not_taken() {
    let (ours, same_name) = (Authority::new("Tarnmouth Demo Root"), Authority::new("Tarnmouth Demo Root"));
    let authorities = std::slice::from_ref(&ours.der);
    assert!(Trust::new(authorities, &[ours.revoke(1)], Judgement::by(&[Source::Crl])).is_ok());
    let forged = Trust::new(authorities, &[same_name.revoke(1)], Judgement::by(&[Source::Crl])).unwrap_err();
    assert!(forged.to_string().contains("signed by none of the authorities"), "{forged}");
    let mut changed = ours.revoke(1);
    *changed.last_mut().unwrap() ^= 1;
    assert!(Trust::new(authorities, &[changed], Judgement::by(&[Source::Crl])).is_err());
}

/// What a responder said, by certificate.
#[derive(Debug, Default)]
struct Told(std::sync::Mutex<std::collections::HashMap<[u8; 32], Standing>>);

impl Standings for Told {
    fn of(&self, fingerprint: &[u8; 32], _: u64) -> Option<Standing> {
        self.0.lock().unwrap().get(fingerprint).copied()
    }
}

#[test]
fn a_responder_is_asked_for_the_verdict_and_what_it_said_counts_in_the_next_handshake() {
    let authority = Authority::new("Tarnmouth Demo Root");
    let (listed, told) = (authority.revoke(66), Arc::new(Told::default()));
    let trust = |sources: &[Source], lists: &[Vec<u8>]| {
        let trust = Trust::new(std::slice::from_ref(&authority.der), lists, Judgement::by(sources)).unwrap();
        trust.with_responder(told.clone(), Some("http://responder.tarnmouth.example".into()))
    };
    let own = authority.issue("ida.marsh", |_| {});
    let bad = authority.issue("tom.reed", |params| params.serial_number = Some(66u64.into()));
    let now = std::time::SystemTime::now();
    let ocsp = trust(&[Source::Ocsp], &[]);
    let questions = ocsp.questions(&own.presented(), now).unwrap();
    assert_eq!(questions.len(), 1);
    assert_eq!((&questions[0].certificate, &questions[0].issuer), (&own.chain[0], &authority.der));
    assert_eq!(ocsp.judge(&own.presented(), now), Err(CertificateFault::RevocationUnknown), "nobody answered");
    let passing =
        Trust::new(std::slice::from_ref(&authority.der), &[], Judgement::by(&[Source::Ocsp]).passing_unknown())
            .unwrap();
    assert_eq!(passing.judge(&own.presented(), now), Ok(()));

    // The list first: what it knows needs no responder; the other way round it is asked.
    let lists = std::slice::from_ref(&listed);
    assert_eq!(trust(&[Source::Crl, Source::Ocsp], lists).questions(&own.presented(), now), Ok(Vec::new()));
    assert_eq!(
        trust(&[Source::Crl, Source::Ocsp], lists).questions(&bad.presented(), now),
        Err(CertificateFault::Revoked)
    );
    assert_eq!(trust(&[Source::Crl, Source::Ocsp], &[]).questions(&own.presented(), now).unwrap().len(), 1);
    let responder_first = trust(&[Source::Ocsp, Source::Crl], lists);
    assert_eq!(responder_first.questions(&own.presented(), now).unwrap().len(), 1);
    assert_eq!(responder_first.judge(&own.presented(), now), Ok(()), "the list speaks where the responder does not");
    assert_eq!(responder_first.judge(&bad.presented(), now), Err(CertificateFault::Revoked));

    let fingerprint = |identity: &Identity| <sha2::Sha256 as sha2::Digest>::digest(&identity.chain[0]).into();
    told.0.lock().unwrap().insert(fingerprint(&own), Standing::Revoked);
    let house = House::new();
    let own_server = authority.issue(SERVER, |_| {});
    let tls = ServerTls::new(&own_server.chain, &own_server.key, None, Some(Arc::new(ocsp))).unwrap();
    let client = |own| {
        let own: Option<&Identity> = own;
        let own = own.map(|own| (&own.chain[..], &own.key[..]));
        ClientTls::new(std::slice::from_ref(&authority.der), SERVER, own, None).unwrap()
    };
    let end = run(house.serve(vec![Offer::Tls(tls.clone())], 21), &mut peer(PeerMethod::Tls(client(Some(&own)))));
    assert_eq!(end.failed().0, &Failure::Tls(TlsFailure::Certificate(CertificateFault::Revoked)));
    let other = authority.issue("ola.nett", |_| {});
    let end = run(house.serve(vec![Offer::Tls(tls)], 22), &mut peer(PeerMethod::Tls(client(Some(&other)))));
    end.keys().expect("the handshake waits for nobody; the verdict does");
}

#[test]
fn an_authority_vouches_only_for_names_that_it_may() {
    let authority = Authority::new("Tarnmouth Demo Root");
    let narrow = authority.delegate("Tarnmouth Machines", |params| {
        let permitted = vec![rcgen::GeneralSubtree::DnsName("tarnmouth.example".into())];
        params.name_constraints =
            Some(rcgen::NameConstraints { permitted_subtrees: permitted, excluded_subtrees: Vec::new() });
    });
    let trust = Trust::new(std::slice::from_ref(&authority.der), &[], Judgement::default()).unwrap();
    let judged = |name: &str| {
        let mut chain = narrow.issue(name, |_| {}).chain;
        chain.push(narrow.der.clone());
        trust.judge(&Chain::new(chain), std::time::SystemTime::now())
    };
    assert_eq!(judged("quay-laptop-7.tarnmouth.example"), Ok(()));
    assert_eq!(judged("quay-laptop-7.another.example"), Err(CertificateFault::NameConstraint));
    let orphan = narrow.issue("quay-laptop-7.tarnmouth.example", |_| {}).presented();
    assert_eq!(trust.judge(&orphan, std::time::SystemTime::now()), Err(CertificateFault::UnknownIssuer));
    let known = Trust::new(&[authority.der.clone(), narrow.der.clone()], &[], Judgement::default()).unwrap();
    assert_eq!(known.judge(&orphan, std::time::SystemTime::now()), Ok(()), "an intermediate that was not sent");
}
