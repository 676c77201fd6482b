//! No public type that may hold a secret shows it when it is printed.

use std::fmt::Debug;
use std::net::{IpAddr, Ipv4Addr};

use regnant_base::{Secret, SecretText};
use regnant_certificates::{Authority, Bundle, Order, Purpose, SigningRequest};
use regnant_client::{Ask, Credential as Sent, Exchange, Patience, Server};
use regnant_eap::mschap::nt_password_hash;
use regnant_eap::{Answer, ClientTls, Credential, Keys, Login, MsChapResponse, Peer, PeerMethod, ServerTls};
use regnant_radius::SharedSecret;
use regnant_records::Inventory;

const WORD: &str = "Tide-Table-61";

/// Neither as text nor as a list of bytes, short or long.
fn hides(what: &str, thing: &impl Debug, secret: &[u8]) {
    for shown in [format!("{thing:?}"), format!("{thing:#?}").replace([' ', '\n'], "")] {
        let shown = shown.replace(' ', "");
        let bytes: Vec<String> = secret.iter().map(u8::to_string).collect();
        let hex: String = secret.iter().map(|byte| format!("{byte:02x}")).collect();
        let text = String::from_utf8_lossy(secret).replace(' ', "");
        for form in [bytes.join(","), hex, text] {
            assert!(!shown.to_lowercase().contains(&form.to_lowercase()), "{what} shows its secret: {shown}");
        }
    }
}

#[test]
fn secrets_themselves_are_not_printed() {
    hides("Secret", &Secret::new(WORD), WORD.as_bytes());
    hides("SecretText", &SecretText::from(WORD.to_owned()), WORD.as_bytes());
    hides("SharedSecret", &SharedSecret::new(WORD.as_bytes()), WORD.as_bytes());
}

#[test]
fn what_is_read_from_files_and_sent_by_equipment_is_not_printed() {
    let text = format!(
        "[[nas]]\nname = \"a\"\naddress = \"127.0.0.1\"\nkind = \"switch\"\nsite = \"quay\"\nsecret = \"{WORD}\"\n\
         [[person]]\nstore = \"harbour\"\nname = \"ida.marsh\"\npassword = \"{WORD}\"\n\
         [[machine]]\nstore = \"harbour\"\nname = \"quay-laptop-7\"\npassword = \"{WORD}\"\n"
    );
    let inventory = Inventory::from_toml("inventory.toml", &text).unwrap();
    hides("Inventory", &inventory, WORD.as_bytes());
    assert_eq!(serde_json::to_string(&inventory).unwrap().matches(WORD).count(), 3, "it is sent on as it was read");

    hides("Ask", &Ask::pap("ida.marsh", WORD), WORD.as_bytes());
    let chap = Sent::Chap { user: "ida.marsh".into(), password: Secret::new(WORD) };
    hides("Credential", &chap, WORD.as_bytes());
    let loopback = IpAddr::from(Ipv4Addr::LOCALHOST);
    let secret = SharedSecret::new(WORD.as_bytes());
    let servers = vec![Server { address: (loopback, 1812).into(), secret }];
    let exchange = Exchange { from: loopback, servers, signed: true, patience: Patience::default() };
    hides("Exchange", &exchange, WORD.as_bytes());
}

#[test]
fn what_eap_holds_is_not_printed() {
    let login = Login { new_password: Some(Secret::new(WORD)), ..Login::new("ida.marsh", WORD) };
    hides("Login", &login, WORD.as_bytes());
    hides("Credential", &Credential::Password(Secret::new(WORD)), WORD.as_bytes());
    let response =
        Credential::MsChap(MsChapResponse { challenge: *b"Tide-Tab", response: *b"Tide-Table-61Tide-Table-" });
    hides("Credential", &response, WORD.as_bytes());
    hides("Answer", &Answer::Right { session_key: Some(Secret::new(WORD)) }, WORD.as_bytes());
    let keys = Keys { msk: Secret::new(WORD), emsk: Some(Secret::new(WORD)), session_id: Vec::new() };
    hides("Keys", &keys, WORD.as_bytes());
    // Keys of a certificate too, wherever they go.
    let request = SigningRequest::new("radius.tarnmouth.example").unwrap();
    hides("SigningRequest", &request, request.key.expose());
    let order = Order {
        common_name: "radius.tarnmouth.example".into(),
        dns: vec!["radius.tarnmouth.example".into()],
        upn: Vec::new(),
        purpose: Purpose::Server,
        not_before: 0,
        not_after: i64::from(i32::MAX),
        serial: 7,
        ocsp: None,
    };
    let issued = Authority::new("Tarnmouth", 0).unwrap().issue(&order).unwrap();
    let bundle = Bundle::from_pem(&format!("{}{}", issued.certificate, issued.key)).unwrap();
    let key = bundle.key.clone().unwrap();
    hides("Bundle", &bundle, key.expose());
    let own = Some((&bundle.chain[..], key.expose()));
    let client = ClientTls::new(&bundle.chain, "radius.tarnmouth.example", own, None).unwrap();
    hides("ClientTls", &client, key.expose());
    let server = ServerTls::new(&bundle.chain, key.expose(), None, None).unwrap();
    hides("ServerTls", &server, key.expose());
    let method = PeerMethod::peap(client, "ida.marsh".into(), Box::new(PeerMethod::MsChapV2(login)));
    hides("PeerMethod", &method, WORD.as_bytes());
    let peer = Peer::new("anonymous", method, 1_300, Box::new(|bytes: &mut [u8]| bytes.fill(7)));
    hides("Peer", &peer, WORD.as_bytes());
    hides("NT hash", &Secret::new(nt_password_hash(WORD)), &nt_password_hash(WORD));
}
