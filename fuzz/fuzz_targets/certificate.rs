//! Any bytes that somebody brings as a certificate, a bundle or a list.
#![no_main]

use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use regnant_certificates::{Authority, Bundle, ocsp_request, read_certificates, read_crls, read_ocsp_response};
use regnant_eap::{Certificate, ClientHello, Judgement, RevocationList, Trust};

static AUTHORITY: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let authority = Authority::new("Tarnmouth Demo Root", 1_700_000_000).unwrap();
    read_certificates(authority.certificate()).unwrap().swap_remove(0)
});

fuzz_target!(|bytes: &[u8]| {
    let _ = Certificate::read(bytes);
    let _ = ClientHello::read(bytes);
    let _ = RevocationList::read(bytes);
    let _ = Trust::new(&[bytes.to_vec()], &[bytes.to_vec()], Judgement::default());
    let _ = ocsp_request(bytes, bytes);
    assert!(read_ocsp_response(bytes, &AUTHORITY, &AUTHORITY, 1_700_000_000).is_err(), "nobody signed this");
    let _ = Bundle::from_pkcs12(bytes, "password");
    if let Ok(text) = std::str::from_utf8(bytes) {
        let _ = (Bundle::from_pem(text), read_certificates(text), read_crls(text));
    }
});
