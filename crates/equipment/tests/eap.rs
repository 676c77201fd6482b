//! EAP conversations, decided whole: who is proved, what is remembered, and what a
//! person reads when it fails.
mod harbour;

use harbour::supplicant::*;
use harbour::{Request, *};
use regnant_eap::{ClientTls, Login, Peer, PeerMethod, PeerStep, Standing, Tunnelled};
use regnant_evidence::*;
use regnant_policy::IdentityKind;
use regnant_radius::*;

#[test]
fn the_inner_identity_decides_and_the_outer_one_is_only_told() {
    let harbour = Harbour::new();
    let end = run(&harbour, peap(&harbour, "ida.marsh", "Tide-Table-61"));
    assert_eq!(end.grant(), "crew");
    assert_eq!(end.record.subject, Subject::User("ida.marsh".into()));
    assert_eq!(end.record.fact("claimed.outer"), Some("\"anonymous@tarnmouth.example\""));
    assert_eq!(end.record.fact("user.proof"), Some("\"peap, eap-mschapv2\""));
    let line = end.station("conversation").line;
    assert!(line.starts_with("peap over TLS 1.3 with eap-mschapv2 inside, "), "{line}");
    let told =
        run_from(&harbour, peap(&harbour, "ida.marsh@other.example", "Tide-Table-61"), "x@here.example", DEVICE, &[]);
    assert_eq!(told.record.fact("claimed.realm-differs"), Some("true"));
    assert!(told.station("conversation").advice.unwrap().contains("another realm"));
}

#[test]
fn a_certificate_names_a_machine_or_a_user_and_never_takes_the_name_outside() {
    let harbour = Harbour::new();
    let by_user = run_from(&harbour, tls(&harbour, &ida(&harbour)), "tom.reed", DEVICE, &[]);
    assert_eq!(by_user.grant(), "crew");
    assert_eq!(by_user.record.fact("user.name"), Some("\"ida.marsh\""));
    assert_eq!(by_user.record.fact("certificate.common-name"), Some("\"ida.marsh\""));
    let by_machine = run(&harbour, tls(&harbour, &laptop(&harbour)));
    assert_eq!(by_machine.grant(), "machines");
    assert_eq!(by_machine.record.subject, Subject::Machine("quay-laptop-7".into()));
    let stranger = harbour.certificates.client("max.fern", &[], &["max.fern@tarnmouth.example"], 4);
    assert_eq!(run(&harbour, tls(&harbour, &stranger)).refusal(), "no store knows the user");
}

#[test]
fn a_session_that_is_resumed_is_judged_afresh() {
    let mut harbour = Harbour::new();
    for own in [None, Some(ida(&harbour))] {
        let method = match &own {
            None => peap(&harbour, "ida.marsh", "Tide-Table-61"),
            Some(own) => tls(&harbour, own),
        };
        assert!(!run(&harbour, method.clone()).is_resumed());
        harbour.now += 60_000;
        let again = run(&harbour, method.clone());
        assert!(again.is_resumed());
        assert_eq!(again.grant(), "crew");
        assert_eq!(again.record.fact("user.age"), Some("1m"));
        harbour.stores.account_mut(IdentityKind::User, "ida.marsh").disabled = true;
        let disabled = run(&harbour, method.clone());
        assert!(disabled.is_resumed());
        assert_eq!(disabled.refusal(), "the account is disabled");
        // The session ended with the refusal.
        harbour.stores.account_mut(IdentityKind::User, "ida.marsh").disabled = false;
        assert!(!run(&harbour, method).is_resumed());
    }
}

#[test]
fn a_changed_password_ends_a_session_and_a_barred_device_is_kept_out_of_it() {
    let mut harbour = Harbour::new();
    let method = peap(&harbour, "ida.marsh", "Tide-Table-61");
    run(&harbour, method.clone()).grant();
    harbour.stores.account_mut(IdentityKind::User, "ida.marsh").password_mark = 2;
    assert_eq!(run(&harbour, method.clone()).refusal(), "the password was changed since the earlier proof");
    let full = run(&harbour, method.clone());
    assert!(!full.is_resumed());
    full.grant();
    let barred = run_from(&harbour, method, "anonymous", "02-00-5E-40-00-66", &[]);
    assert!(barred.is_resumed());
    assert_eq!(barred.record.end(), EndRecord::Rule { title: "Reported lost or stolen" });
}

#[test]
fn sessions_end_by_age_and_begin_nowhere_where_a_gate_says_never() {
    let mut harbour = Harbour::new();
    let method = peap(&harbour, "ida.marsh", "Tide-Table-61");
    run(&harbour, method.clone()).grant();
    harbour.now += 8 * 3_600_000;
    assert!(run(&harbour, method.clone()).is_resumed());
    harbour.now += 1;
    assert!(!run(&harbour, method).is_resumed());
    let never = changed("resume up to 8h", "resume never");
    let method = peap(&never, "ida.marsh", "Tide-Table-61");
    for _ in 0..2 {
        assert!(!run(&never, method.clone()).is_resumed());
    }
}

#[test]
fn a_machine_is_remembered_by_its_address_for_its_time_and_looked_up_again() {
    let mut harbour = Harbour::new();
    let user = || peap(&harbour, "ida.marsh", "Tide-Table-61");
    let user = user();
    run(&harbour, tls(&harbour, &laptop(&harbour))).grant();
    let later = run(&harbour, user.clone());
    assert_eq!(later.grant(), "crew-managed");
    assert_eq!(later.record.fact("machine.proof"), Some("\"remembered, eap-tls\""));
    assert!(later.record.fact("machine.age").is_some());
    let of = |station: &str, label: &str| {
        let evidence = later.station(station).evidence;
        evidence.into_iter().find(|evidence| evidence.label.starts_with(label)).unwrap().value
    };
    assert_eq!(of("proof", "machine quay-laptop-7"), "right certificate", "judged anew, and no session is resumed");
    assert_eq!(of("rules", "Reported lost"), "device.barred is false");
    assert_eq!(run_from(&harbour, user.clone(), "x", "02-00-5E-10-00-02", &[]).grant(), "crew");
    harbour.stores.account_mut(IdentityKind::Machine, "quay-laptop-7").disabled = true;
    assert_eq!(run(&harbour, user.clone()).grant(), "crew");
    harbour.stores.account_mut(IdentityKind::Machine, "quay-laptop-7").disabled = false;
    harbour.now += 8 * 3_600_000 + 1;
    assert_eq!(run(&harbour, user).grant(), "crew");
}

#[test]
fn a_machine_is_remembered_by_no_gate_that_would_not_take_its_proof_nor_as_another_stores() {
    let two = |machines: &str, users: &str, store: &str| {
        format!(
            "grant crew {{ class \"crew\" }} grant managed {{ class \"managed\" }}
             gate machines {{
               when request.NAS-Identifier = \"x\"
               accept {machines}
               present certificate \"{SERVER}\"
               trust \"tarnmouth-authority\" {{ machine from san-dns }}
               identify machine in people as lower(before(claimed.name, \".\"))
               identify user in people
               remember machine 8h
               otherwise grant crew
             }}
             gate users {{
               accept {users}
               present certificate \"{SERVER}\"
               trust \"tarnmouth-authority\" {{ machine from san-dns }}
               identify user in people
               identify machine in {store} as lower(before(claimed.name, \".\")) {{ unknown continue }}
               remember machine 8h
               rule \"Managed\" {{ when machine in group \"harbour-laptops\" grant managed }}
               otherwise grant crew
             }}"
        )
    };
    let stores = ["harbour", "people"];
    for (machines, users, store, remembered) in [
        ("peap(eap-mschapv2)", "peap(eap-mschapv2)", "people", true),
        ("peap(eap-mschapv2)", "peap(eap-mschapv2)", "harbour, people", true),
        ("peap(eap-mschapv2)", "peap(eap-mschapv2)", "harbour", false),
        ("peap(eap-mschapv2)", "peap(eap-gtc), eap-tls", "people", false),
        ("peap(eap-mschapv2)", "peap(eap-mschapv2) bound", "people", false),
    ] {
        let harbour = Harbour::with_stores(&two(machines, users, store), &stores);
        let peer = |name: &str, password: &str, gtc: bool| {
            let login = Login::new(name, password);
            let inner = if gtc { PeerMethod::Gtc(login) } else { PeerMethod::MsChapV2(login) };
            PeerMethod::Peap {
                tls: client(&harbour, None),
                identity: name.into(),
                inner: Box::new(inner),
                binds: users.ends_with("bound"),
            }
        };
        let from = |method, nas: &str| run_from(&harbour, method, "x", "02-00-5E-10-00-09", &[("NAS-Identifier", nas)]);
        let machine = PeerMethod::Peap {
            tls: client(&harbour, None),
            identity: "host/quay-laptop-7".into(),
            inner: Box::new(PeerMethod::MsChapV2(Login::new("host/quay-laptop-7", "Keel-Plate-55"))),
            binds: false,
        };
        from(machine, "x").grant();
        let user = from(peer("ida.marsh", "Tide-Table-61", users.contains("gtc")), "y");
        assert_eq!(
            user.grant(),
            if remembered { "managed" } else { "crew" },
            "{users} in {store}: {:?}",
            user.record.lookups
        );
    }
}

#[test]
fn teap_tells_machine_and_user_apart_each_with_its_own_outcome() {
    let harbour = Harbour::new();
    let ida = Some(("ida.marsh", "Tide-Table-61"));
    let both = run(&harbour, teap(&harbour, ida, Some(("host/quay-laptop-7", "Keel-Plate-55"))));
    assert_eq!(both.grant(), "crew-managed");
    assert_eq!(both.record.fact("machine.groups"), Some("{ \"harbour-laptops\" }"));
    let fails =
        run_from(&harbour, teap(&harbour, ida, Some(("host/quay-laptop-7", "wrong"))), "x", "02-00-5E-10-00-05", &[]);
    assert_eq!(fails.grant(), "agents");
    assert_eq!(fails.record.fact("machine.failure"), Some("\"failed\""));
    let strict = changed("{ unknown continue, failed continue }", "");
    let refused = run(&strict, teap(&strict, ida, Some(("host/quay-laptop-7", "wrong"))));
    assert_eq!(refused.refusal(), "wrong password");
    let absent = changed("{ unknown continue, failed continue }", "{ absent refuse \"Use a harbour laptop.\" }");
    assert_eq!(run(&absent, teap(&absent, ida, None)).refusal(), "nobody presented themselves");
}

#[test]
fn keys_and_names_go_to_the_equipment_only_as_it_asked() {
    let harbour = Harbour::new();
    let method = peap(&harbour, "ida.marsh", "Tide-Table-61");
    let asked = [("Chargeable-User-Identity", "0x00"), ("EAP-Key-Name", "0x00")];
    let end = run_from(&harbour, method.clone(), "anonymous", DEVICE, &asked);
    let secret = SharedSecret::new(*b"bollard-9-anchor");
    let reply = end.reply.as_ref().unwrap();
    let reply = Packet::parse(reply).unwrap();
    let (receive, send) = read_session_keys(&reply, &AUTHENTICATOR, &secret).unwrap();
    let keys = end.keys.as_ref().unwrap().as_ref().unwrap();
    assert_eq!([receive.expose(), send.expose()].concat(), keys.msk.expose());
    assert_eq!(reply.first(number::EAP_KEY_NAME).unwrap(), keys.session_id);
    let opaque = reply.first(number::CHARGEABLE_USER_IDENTITY).unwrap().to_vec();
    assert!(!opaque.windows(3).any(|part| part == b"ida"));
    let again = run_from(&harbour, method, "other", DEVICE, &asked);
    let again = Packet::parse(again.reply.as_ref().unwrap()).unwrap();
    assert_eq!(again.first(number::CHARGEABLE_USER_IDENTITY), Some(&opaque[..]), "the same for the same account");
    let plain = run(&harbour, peap(&harbour, "ida.marsh", "Tide-Table-61"));
    let plain = Packet::parse(plain.reply.as_ref().unwrap()).unwrap();
    assert!(plain.first(number::CHARGEABLE_USER_IDENTITY).is_none() && plain.first(number::EAP_KEY_NAME).is_none());
}

#[test]
fn a_refusal_is_told_in_words_with_names_dates_and_what_to_do() {
    let harbour = Harbour::new();
    let other = regnant_certificates::Authority::new("Another Harbour Root", 1_700_000_000).unwrap();
    let authorities = regnant_certificates::read_certificates(other.certificate()).unwrap();
    let distrusting = ClientTls::new(&authorities, SERVER, None, None).unwrap();
    let method = PeerMethod::Ttls(distrusting, Tunnelled::Password(Login::new("ida.marsh", "x")));
    let told = run(&harbour, method).station("conversation");
    assert_eq!(
        told.line,
        "The supplicant does not trust our server certificate: it rejected `CN=radius.tarnmouth.example`, issued by \
         `Tarnmouth Demo Root`, as *unknown CA*."
    );
    assert!(told.advice.unwrap().starts_with("Give it the profile of this gate"));
    let revoked = harbour.certificates.client("tom.reed", &[], &["tom.reed@tarnmouth.example"], 66);
    let told = run(&harbour, tls(&harbour, &revoked)).station("conversation");
    assert!(told.line.contains("*revoked*") && told.line.contains("`CN=tom.reed`"), "{}", told.line);
    assert_eq!(told.mark, Mark::Stopped);
    let wrong = run(&harbour, peap(&harbour, "ida.marsh", "wrong"));
    let (proof, identity) = (wrong.station("proof"), wrong.station("identity"));
    assert_eq!((proof.line.as_str(), proof.mark, proof.micros), ("EAP: wrong password.", Mark::Stopped, Some(85)));
    assert_eq!(identity.line, "ida.marsh was not proved.");
    assert_eq!(wrong.station("gate").evidence[0].value, "passed over: its condition is false");
    let method = PeerMethod::Gtc(Login::new("ida.marsh", "Tide-Table-61"));
    let told = run(&harbour, method).station("conversation");
    assert!(told.line.contains("wants eap-gtc"), "{}", told.line);
}

#[test]
fn a_conversation_that_stops_half_way_says_where() {
    let harbour = Harbour::new();
    let mut peer = Peer::new("anonymous", peap(&harbour, "ida.marsh", "x"), 1_000, Box::new(|bytes| bytes.fill(3)));
    let PeerStep::Send(mut eap) = peer.receive(&[1, 0, 0, 5, 1]) else { panic!() };
    let mut answered = harbour.ask(&packet(&eap, None, DEVICE, &[]));
    let mut told = Vec::new();
    for _ in 0..5 {
        let Answered::Challenged(session, reply) = answered else { panic!() };
        let reply = Packet::parse(&reply).unwrap();
        let PeerStep::Send(next) = peer.receive(&reply.eap_message().unwrap()) else { panic!() };
        eap = next;
        let state = reply.first(number::STATE).unwrap();
        answered = harbour.go_on(session, &packet(&eap, Some(state), DEVICE, &[]));
        if let Answered::Challenged(session, _) = answered {
            // What it would say if nothing more came.
            let record = written(session.abandon());
            assert_eq!(record.verdict(), VerdictRecord::Unfinished);
            told.push(record.reason());
            break;
        }
    }
    assert_eq!(told, ["when peap was offered"]);
}

#[test]
fn whoever_is_refused_and_says_no_more_was_refused() {
    let harbour = Harbour::new();
    let barred = "02-00-5E-40-00-66";
    for method in [tls(&harbour, &ida(&harbour)), peap(&harbour, "ida.marsh", "Tide-Table-61")] {
        let mut peer = Peer::new("anonymous", method, 1_000, Box::new(|bytes| bytes.fill(3)));
        let PeerStep::Send(eap) = peer.receive(&[1, 0, 0, 5, 1]) else { panic!() };
        let mut answered = harbour.ask(&packet(&eap, None, barred, &[]));
        let record = loop {
            let Answered::Challenged(session, reply) = answered else { panic!("no verdict before the end") };
            if session.has_verdict() {
                break written(session.abandon());
            }
            let reply = Packet::parse(&reply).unwrap();
            let PeerStep::Send(next) = peer.receive(&reply.eap_message().unwrap()) else { panic!() };
            answered = harbour.go_on(session, &packet(&next, reply.first(number::STATE), barred, &[]));
        };
        assert_eq!(record.end(), EndRecord::Rule { title: "Reported lost or stolen" });
        assert!(matches!(record.verdict(), VerdictRecord::Refuse { .. }), "{:?}", record.verdict());
        let reply = record.trail().stations.into_iter().find(|station| station.name == "reply").unwrap();
        assert!(reply.line.contains("said no more"), "{}", reply.line);
    }
}

#[test]
fn a_packet_of_an_unknown_conversation_and_one_that_is_no_eap_are_answered() {
    let harbour = Harbour::new();
    let lost = harbour.record(&packet(&[2, 7, 0, 6, 25, 0], Some(&[9; 16]), DEVICE, &[]));
    assert_eq!(lost.end(), EndRecord::UnknownConversation);
    assert!(lost.trail().stations.iter().any(|station| station.line.contains("never began")));
    let Answered::Challenged(session, first) = harbour.ask(&packet(b"\x02\x01\x00\x08\x01ida", None, DEVICE, &[]))
    else {
        panic!()
    };
    let first = Packet::parse(&first).unwrap();
    let Answered::Challenged(_, again) =
        harbour.go_on(session, &packet(&[9, 9, 0, 4], first.first(number::STATE), DEVICE, &[]))
    else {
        panic!()
    };
    let again = Packet::parse(&again).unwrap();
    assert_eq!(again.eap_message(), first.eap_message(), "the request comes again");
    assert_eq!(again.first(number::ERROR_CAUSE), Some(&202u32.to_be_bytes()[..]));
}

#[test]
fn an_empty_eap_message_starts_with_a_request_for_the_identity() {
    let harbour = Harbour::new();
    let secret = SharedSecret::new(*b"bollard-9-anchor");
    let mut builder = Builder::new(Code::ACCESS_REQUEST, 9);
    let attributes = [("Calling-Station-Id", DEVICE), ("NAS-Port-Type", "Ethernet")];
    builder.encoded(&Dictionary::standard().encode(attributes).unwrap()).unwrap();
    builder.attribute(number::EAP_MESSAGE, &[]).unwrap();
    let start = Request { from: "127.0.0.11", bytes: builder.request(&AUTHENTICATOR, &secret) };
    let Answered::Challenged(_, reply) = harbour.ask(&start) else { panic!() };
    let packet = Packet::parse(&reply).unwrap().eap_message().unwrap();
    assert_eq!((packet[0], packet[4]), (1, 1));
}

#[test]
fn a_store_that_does_not_answer_keeps_the_conversation_silent() {
    let mut harbour = Harbour::new();
    harbour.stores.silent.push("harbour");
    let end = run(&harbour, peap(&harbour, "ida.marsh", "Tide-Table-61"));
    assert_eq!((end.record.verdict(), end.reply), (VerdictRecord::Silence, None));
}

#[test]
fn a_remembered_machine_whose_store_is_silent_is_unanswered_and_not_absent() {
    let policy = POLICY.replacen("}\n\n  identify user in harbour as", "}\n\n  identify user in people as", 1);
    let mut harbour = Harbour::with_stores(&policy, &["harbour", "people"]);
    let user = peap(&harbour, "ida.marsh", "Tide-Table-61");
    run(&harbour, tls(&harbour, &laptop(&harbour))).grant();
    assert_eq!(run(&harbour, user.clone()).grant(), "crew-managed");
    harbour.stores.silent.push("harbour");
    let end = run(&harbour, user.clone());
    assert_eq!(end.record.verdict(), VerdictRecord::Silence, "{:?}", end.record.end());
    assert!(matches!(end.record.end(), EndRecord::Undetermined { .. }));
    assert_eq!(end.record.fact("machine.proved"), Some("unanswered"));
    let refuses =
        policy.replacen("  remember machine 8h", "  remember machine 8h\n  undetermined refuse \"Later.\"", 1);
    harbour.change_policy(&refuses);
    let end = run(&harbour, user);
    assert!(matches!(end.record.verdict(), VerdictRecord::Refuse { .. }), "{:?}", end.record.verdict());
    assert_eq!(end.station("grant").line, "None: refused with \"Later.\"");
}

#[test]
fn a_peer_that_does_not_bind_its_inner_login_to_the_tunnel_is_kept_out_where_the_gate_demands_it() {
    let bound = changed("peap(eap-mschapv2, eap-gtc, eap-tls)", "peap(eap-mschapv2, eap-gtc, eap-tls) bound");
    let peer = |harbour: &Harbour, binds| {
        let inner = Box::new(PeerMethod::MsChapV2(Login::new("ida.marsh", "Tide-Table-61")));
        PeerMethod::Peap { tls: client(harbour, None), identity: "ida.marsh".into(), inner, binds }
    };
    let refused = run(&bound, peer(&bound, false));
    assert!(refused.refusal().contains("does not prove that tunnel and inner method belong together"));
    assert_eq!(refused.record.fact("tls.bound"), Some("false"));
    assert!(refused.station("conversation").advice.unwrap().contains("crypto-binding"));
    let given = run(&bound, peer(&bound, true));
    assert_eq!((given.grant().as_str(), given.record.fact("tls.bound")), ("crew", Some("true")));
    let told = given.station("conversation").evidence;
    assert!(told.iter().any(|evidence| evidence.label == "bound to the tunnel" && evidence.value.starts_with("yes")));
    // Without the word it may be missing, and a session so begun is never a bound one.
    let mut harbour = Harbour::new();
    let lax = peer(&harbour, false);
    assert_eq!(run(&harbour, lax.clone()).record.fact("tls.bound"), Some("false"));
    harbour.change_policy(&POLICY.replacen(
        "peap(eap-mschapv2, eap-gtc, eap-tls)",
        "peap(eap-mschapv2, eap-gtc, eap-tls) bound",
        1,
    ));
    assert!(!run(&harbour, peer(&harbour, true)).is_resumed());
}

const BY_LIST: &str = "revocation crl { unreachable refuse }";

#[test]
fn an_issuer_is_asked_before_the_verdict_and_a_refusal_then_says_that_no_alert_went() {
    let harbour = changed(BY_LIST, "revocation ocsp { unreachable refuse }");
    let asked = || harbour.issuer.asked.load(std::sync::atomic::Ordering::Relaxed);
    let own = ida(&harbour);
    let silent = run(&harbour, tls(&harbour, &own));
    assert_eq!(silent.refusal(), "its certificate was refused: revocation unknown");
    let told = silent.station("conversation");
    assert!(told.line.ends_with("so that the supplicant got no TLS alert."), "{}", told.line);
    assert!(told.advice.unwrap().contains("its responder does not answer"));
    let answer = "CN=ida.marsh: no answer: nobody is there";
    assert!(told.evidence.iter().any(|e| e.label == "asked the issuer" && e.value == answer), "{:?}", told.evidence);

    harbour.issuer.now_says(Some(Standing::Good));
    assert_eq!(run(&harbour, tls(&harbour, &own)).grant(), "crew");
    assert_eq!(asked(), 2);
    assert_eq!(run(&harbour, tls(&harbour, &own)).grant(), "crew");
    assert_eq!(asked(), 2, "what it said still counts");

    harbour.issuer.now_says(Some(Standing::Revoked));
    assert_eq!(run(&harbour, tls(&harbour, &own)).refusal(), "its certificate was refused: revoked");
    let again = run(&harbour, tls(&harbour, &own));
    assert_eq!(again.refusal(), "its certificate was refused: revoked");
    assert!(!again.station("conversation").line.contains("no TLS alert"), "known now: the handshake refuses it");
}

#[test]
fn an_issuer_that_is_silent_may_be_gone_without() {
    let lenient = changed(BY_LIST, "revocation ocsp { unreachable continue }");
    assert_eq!(run(&lenient, tls(&lenient, &ida(&lenient))).grant(), "crew");
    let both = changed(BY_LIST, "revocation ocsp, crl");
    let end = run(&both, tls(&both, &ida(&both)));
    assert_eq!(end.grant(), "crew", "the list knows");
    assert!(end.station("conversation").evidence.iter().any(|e| e.value.contains("nobody is there")));
}

#[test]
fn a_certificate_that_is_revoked_in_between_resumes_nothing_and_is_remembered_by_nobody() {
    let harbour = changed(BY_LIST, "revocation ocsp");
    harbour.issuer.now_says(Some(Standing::Good));
    let method = tls(&harbour, &ida(&harbour));
    assert!(!run(&harbour, method.clone()).is_resumed());
    assert!(run(&harbour, method.clone()).is_resumed());
    harbour.issuer.now_says(Some(Standing::Revoked));
    let resumed = run(&harbour, method);
    assert!(resumed.is_resumed());
    assert_eq!(resumed.refusal(), "its certificate was refused: revoked");

    harbour.issuer.now_says(Some(Standing::Good));
    assert_eq!(run(&harbour, tls(&harbour, &laptop(&harbour))).grant(), "machines");
    let user = || run(&harbour, peap(&harbour, "ida.marsh", "Tide-Table-61"));
    assert_eq!(user().grant(), "crew-managed", "the machine is remembered");
    harbour.issuer.now_says(Some(Standing::Revoked));
    assert_eq!(user().grant(), "crew", "and its certificate is judged again");
}
