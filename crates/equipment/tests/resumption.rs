//! A resumed session is judged by as much as its first conversation was.
mod harbour;

use harbour::supplicant::*;
use harbour::*;
use proptest::prelude::*;
use regnant_eap::{Login, PeerMethod, Tunnelled};
use regnant_evidence::{EndRecord, VerdictRecord};

/// Nothing here asks about resumption, ages or the time.
const CONDITIONS: [&str; 30] = [
    "user.proved",
    "machine.proved",
    "not user.proved",
    "not machine.proved",
    "exists machine.failure",
    "machine.failure = \"failed\"",
    "machine.failure = \"unknown\"",
    "exists user.failure",
    "user.failure = \"failed\"",
    "exists user.name",
    "user.name = \"ida.marsh\"",
    "machine.claimed = \"quay-laptop-9\"",
    "user in group \"staff\"",
    "machine in group \"harbour-laptops\"",
    "user.proof contains \"mschapv2\"",
    "machine.proof contains \"eap-tls\"",
    "request.method = \"teap\"",
    "request.method = \"peap\"",
    "request.inner-methods contains \"eap-mschapv2\"",
    "request.inner-methods contains \"eap-tls\"",
    "exists request.inner-methods",
    "claimed.name = \"ida.marsh\"",
    "claimed.name = \"quay-laptop-7\"",
    "exists claimed.realm",
    "claimed.realm-differs",
    "exists certificate.issuer",
    "certificate.common-name = \"ida.marsh\"",
    "exists certificate.san-dns",
    "exists tls.group",
    "tls.version = \"TLS 1.3\"",
];

fn condition() -> impl Strategy<Value = String> {
    let leaf = prop::sample::select(CONDITIONS.to_vec()).prop_map(str::to_owned);
    leaf.prop_recursive(2, 6, 2, |inner| {
        prop_oneof![
            inner.clone().prop_map(|text| format!("not ({text})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("(({a}) and ({b}))")),
            (inner.clone(), inner).prop_map(|(a, b)| format!("(({a}) or ({b}))")),
        ]
    })
}

fn policy(rules: &[(String, &str)]) -> String {
    let rules: Vec<_> =
        rules.iter().enumerate().map(|(at, (when, then))| format!("rule \"{at}\" {{ when {when} {then} }}")).collect();
    format!(
        "grant crew {{ vlan 20 }} grant agents {{ vlan 60 }}
         gate all {{
           accept eap-tls, teap(eap-mschapv2, eap-tls), peap(eap-mschapv2), ttls(pap)
           present certificate \"radius.tarnmouth.example\"
           trust \"tarnmouth-authority\" {{ machine from san-dns user from san-upn }}
           identify user in harbour as lower(before(claimed.name, \"@\")) {{ unknown continue, failed continue }}
           identify machine in harbour as lower(before(claimed.name, \".\")) {{ unknown continue, failed continue }}
           {}
           otherwise grant crew
         }}",
        rules.join(" ")
    )
}

/// Every way of signing in, some of which prove less than they claim.
fn logins(harbour: &Harbour) -> Vec<PeerMethod> {
    let ida = Some(("ida.marsh", "Tide-Table-61"));
    let laptop_password = Some(("host/quay-laptop-7", "Keel-Plate-55"));
    let by_certificate = |name: &str, own| Some(Tunnelled::Eap(name.into(), Box::new(tls(harbour, own))));
    let (own, machine) = (ida_certificate(harbour), laptop(harbour));
    let stranger = harbour.certificates.client("quay-laptop-9", &["quay-laptop-9.tarnmouth.example"], &[], 9);
    let password = Tunnelled::Password(Login::new("ida.marsh@tarnmouth.example", "Tide-Table-61"));
    vec![
        peap(harbour, "ida.marsh", "Tide-Table-61"),
        tls(harbour, &own),
        tls(harbour, &machine),
        tls(harbour, &stranger),
        PeerMethod::Ttls(client(harbour, None), password),
        teap(harbour, ida, None),
        teap(harbour, None, laptop_password),
        teap(harbour, ida, laptop_password),
        teap(harbour, ida, Some(("host/quay-laptop-7", "wrong"))),
        teap(harbour, ida, Some(("host/quay-laptop-9", "Keel-Plate-55"))),
        PeerMethod::Teap {
            tls: client(harbour, None),
            user: by_certificate("ida.marsh", &own),
            machine: by_certificate("host/quay-laptop-7", &machine),
        },
        // TEAP ends with a user who is not proved: this one begins no session.
        teap(harbour, Some(("ida.marsh", "wrong")), laptop_password),
    ]
}

fn ida_certificate(harbour: &Harbour) -> regnant_certificates::Bundle {
    ida(harbour)
}

/// What was decided, and where it fell.
fn decided(end: &End) -> (EndRecord<'_>, VerdictRecord<'_>) {
    (end.record.end(), end.record.verdict())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, ..ProptestConfig::default() })]
    #[test]
    fn first_and_resumed_verdicts_are_equal(
        rules in prop::collection::vec(
            (condition(), prop::sample::select(vec!["grant crew", "grant agents", "refuse"])), 1..5),
        login in 0usize..12
    ) {
        let harbour = Harbour::with_policy(&policy(&rules));
        let method = logins(&harbour).swap_remove(login);
        let first = run(&harbour, method.clone());
        for _ in 0..2 {
            let again = run(&harbour, method.clone());
            prop_assert_eq!(decided(&again), decided(&first), "login {}", login);
        }
    }
}

#[test]
fn every_login_of_the_property_is_resumed() {
    let harbour = Harbour::with_policy(&policy(&[]));
    for (number, method) in logins(&harbour).into_iter().enumerate().take(11) {
        assert!(!run(&harbour, method.clone()).is_resumed());
        assert!(run(&harbour, method).is_resumed(), "login {number}");
    }
}

#[test]
fn a_machine_that_failed_beside_its_user_stays_failed_in_the_session() {
    let harbour = Harbour::new();
    let method = teap(&harbour, Some(("ida.marsh", "Tide-Table-61")), Some(("host/quay-laptop-7", "wrong")));
    assert_eq!(run(&harbour, method.clone()).grant(), "agents");
    let again = run(&harbour, method);
    assert!(again.is_resumed());
    assert_eq!(again.grant(), "agents");
    assert_eq!(again.record.fact("machine.failure"), Some("\"failed\""));
    let proof = again.station("proof").evidence;
    assert!(proof.iter().any(|evidence| evidence.value == "not proved when the session began (failed)"), "{proof:?}");
}

#[test]
fn a_gate_that_changed_what_it_accepts_or_whom_it_asks_for_resumes_nothing() {
    let mut harbour = Harbour::new();
    let method = peap(&harbour, "ida.marsh", "Tide-Table-61");
    run(&harbour, method.clone()).grant();
    assert!(run(&harbour, method.clone()).is_resumed());
    const PEAP: &str = "peap(eap-mschapv2, eap-gtc, eap-tls)";
    assert!(POLICY.contains(PEAP));
    for accepted in ["peap(eap-mschapv2, eap-gtc, eap-tls) bound", "peap(eap-tls, eap-mschapv2)"] {
        harbour.change_policy(&POLICY.replacen(PEAP, accepted, 1));
        assert!(run(&harbour, method.clone()).is_resumed(), "the session was bound, by a method still accepted");
    }
    let users_alone = POLICY.replace("  identify machine", "  #").replace("  remember machine", "  #");
    harbour.change_policy(&users_alone);
    let full = run(&harbour, method.clone());
    assert!(!full.is_resumed(), "{:?}", full.record.end());
    harbour.change_policy(&POLICY.replacen(PEAP, "peap(eap-gtc)", 1));
    let refused = run(&harbour, method.clone());
    assert!(!refused.is_resumed());
    assert!(refused.refusal().contains("does not accept"), "{}", refused.refusal());
}
