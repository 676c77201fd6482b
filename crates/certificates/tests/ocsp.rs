//! What a responder says counts only from whom the issuer appointed, about the
//! right certificate, and for as long as it says.
use proptest::prelude::*;
use regnant_certificates::*;
use regnant_eap::{Certificate, Standing};

const NOW: i64 = 1_795_392_000;

struct House {
    authority: Authority,
    issuer: Vec<u8>,
    own: Vec<u8>,
}

fn order(name: &str, purpose: Purpose, serial: u64) -> Order {
    Order {
        common_name: name.into(),
        dns: vec![name.into()],
        upn: Vec::new(),
        purpose,
        not_before: NOW - 60,
        not_after: NOW + 86_400,
        serial,
        ocsp: Some("http://responder.tarnmouth.example/".into()),
    }
}

fn der(pem: &str) -> Vec<u8> {
    read_certificates(pem).unwrap().swap_remove(0)
}

impl House {
    fn new() -> Self {
        let authority = Authority::new("Tarnmouth Demo Root", NOW).unwrap();
        let own = der(&authority.issue(&order("ida.marsh", Purpose::Client, 0xfe_0007)).unwrap().certificate);
        Self { issuer: der(authority.certificate()), authority, own }
    }

    fn responder(&self) -> Responder {
        Responder::new(self.authority.key(), None).unwrap()
    }

    fn ask(&self, responder: &Responder) -> Vec<u8> {
        responder.answer(&ocsp_request(&self.own, &self.issuer).unwrap(), NOW).unwrap()
    }

    fn read(&self, answer: &[u8], after: u64) -> Result<OcspAnswer, OcspError> {
        read_ocsp_response(answer, &self.own, &self.issuer, NOW as u64 + after)
    }
}

#[test]
fn what_the_issuer_says_is_read_until_its_time_is_over() {
    let house = House::new();
    assert_eq!(Certificate::read(&house.own).unwrap().ocsp, ["http://responder.tarnmouth.example/"]);
    let mut responder = house.responder();
    let good = house.ask(&responder);
    let until = NOW as u64 + 3_600;
    assert_eq!(house.read(&good, 0), Ok(OcspAnswer { standing: Standing::Good, until }));
    assert_eq!(house.read(&good, 3_600), Ok(OcspAnswer { standing: Standing::Good, until }));
    assert_eq!(house.read(&good, 3_601), Err(OcspError::Stale));
    assert_eq!(read_ocsp_response(&good, &house.own, &house.issuer, NOW as u64 - 301), Err(OcspError::FromTheFuture));
    responder.says.insert(0xfe_0007, Says::Revoked);
    assert_eq!(house.read(&house.ask(&responder), 0), Ok(OcspAnswer { standing: Standing::Revoked, until }));
    responder.says.insert(0xfe_0007, Says::Unknown);
    assert_eq!(house.read(&house.ask(&responder), 0).map(|answer| answer.standing), Ok(Standing::Unknown));
}

#[test]
fn only_whom_the_issuer_appointed_may_answer_for_it() {
    let house = House::new();
    let appoint = |authority: &Authority, order: &Order| {
        let delegate = authority.issue(order).unwrap();
        Responder::new(&delegate.key, Some(der(&delegate.certificate))).unwrap()
    };
    let appointed = appoint(&house.authority, &order("responder", Purpose::Responder, 9));
    assert!(house.read(&house.ask(&appointed), 0).is_ok());
    let clerk = appoint(&house.authority, &order("no responder", Purpose::Server, 10));
    assert_eq!(house.read(&house.ask(&clerk), 0), Err(OcspError::NotSigned));
    let over = appoint(&house.authority, &Order { not_after: NOW - 1, ..order("late", Purpose::Responder, 11) });
    assert_eq!(house.read(&house.ask(&over), 0), Err(OcspError::NotSigned));
    let stranger = Authority::new("Tarnmouth Demo Root", NOW).unwrap();
    let foreign = appoint(&stranger, &order("responder", Purpose::Responder, 9));
    assert_eq!(house.read(&house.ask(&foreign), 0), Err(OcspError::NotSigned));
    let unsigned = Responder::new(stranger.key(), None).unwrap();
    assert_eq!(house.read(&house.ask(&unsigned), 0), Err(OcspError::NotSigned));
}

#[test]
fn an_answer_about_another_certificate_is_none() {
    let house = House::new();
    let other = der(&house.authority.issue(&order("ola.nett", Purpose::Client, 8)).unwrap().certificate);
    let question = ocsp_request(&other, &house.issuer).unwrap();
    let answer = house.responder().answer(&question, NOW).unwrap();
    assert_eq!(house.read(&answer, 0), Err(OcspError::AnotherCertificate));
    // RFC 6960 section 4.2.1: tryLater, with nothing else.
    assert!(matches!(house.read(&[0x30, 3, 0x0a, 1, 3], 0), Err(OcspError::Declined("it has no time now"))));
}

#[test]
fn an_answer_that_is_cut_or_changed_never_says_anything_else() {
    let house = House::new();
    let delegate = house.authority.issue(&order("responder", Purpose::Responder, 9)).unwrap();
    let mut responder = Responder::new(&delegate.key, Some(der(&delegate.certificate))).unwrap();
    responder.says.insert(0xfe_0007, Says::Revoked);
    let answer = house.ask(&responder);
    let honest = house.read(&answer, 0).unwrap();
    for length in 0..answer.len() {
        assert!(house.read(&answer[..length], 0).is_err(), "cut at {length}");
    }
    for place in 0..answer.len() {
        let mut changed = answer.clone();
        changed[place] ^= 0x01;
        assert!(house.read(&changed, 0).map_or(true, |told| told == honest), "byte {place}");
    }
}

proptest! {
    #[test]
    fn no_bytes_are_an_answer_by_chance(bytes in proptest::collection::vec(any::<u8>(), 0..300)) {
        let house = House::new();
        prop_assert!(house.read(&bytes, 0).is_err());
        prop_assert!(house.responder().answer(&bytes, NOW).is_err());
    }
}
