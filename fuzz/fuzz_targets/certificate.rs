//! Any bytes that somebody brings as a certificate, a bundle or a list.
#![no_main]

use libfuzzer_sys::fuzz_target;
use regnant_certificates::{Bundle, read_certificates, read_crls};
use regnant_eap::{Certificate, ClientHello, Judgement, Trust};

fuzz_target!(|bytes: &[u8]| {
    let _ = Certificate::read(bytes);
    let _ = ClientHello::read(bytes);
    let _ = Trust::new(&[bytes.to_vec()], &[bytes.to_vec()], Judgement::Always);
    let _ = Bundle::from_pkcs12(bytes, "password");
    if let Ok(text) = std::str::from_utf8(bytes) {
        let _ = (Bundle::from_pem(text), read_certificates(text), read_crls(text));
    }
});
