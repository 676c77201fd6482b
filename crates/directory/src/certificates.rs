//! Which certificates a directory has for an account.

use std::fmt::Write as _;

use regnant_decision::KeptCertificate;
use sha2::{Digest, Sha256};

use crate::entry::Entry;

/// Certificates of one account that are looked at.
const MOST: usize = 64;

/// Those in an attribute: certificates in DER, or mappings by issuer and serial number
/// (`X509:<I>...<SR>...`, [MS-ADTS] on altSecurityIdentities). Mappings by anything that another
/// certificate may have too, such as a subject or a mail address, count for nothing.
pub(crate) fn of(entry: &Entry, attribute: &str) -> Vec<KeptCertificate> {
    if attribute.is_empty() {
        return Vec::new();
    }
    // Directories answer with and without the option that asks for the bytes as they are.
    let bare = attribute.trim_end_matches(";binary");
    let values = entry.all_bytes(attribute).chain(entry.all_bytes(bare).filter(|_| bare != attribute));
    values.take(MOST).filter_map(read).collect()
}

fn read(value: &[u8]) -> Option<KeptCertificate> {
    match std::str::from_utf8(value).ok().and_then(|text| text.strip_prefix("X509:")) {
        Some(mapping) => mapped(mapping),
        None if value.first() == Some(&0x30) => Some(KeptCertificate::Fingerprint(hex(&Sha256::digest(value)))),
        None => None,
    }
}

fn mapped(mapping: &str) -> Option<KeptCertificate> {
    let (issuer, serial) = mapping.strip_prefix("<I>")?.split_once("<SR>")?;
    // The number stands there with its last byte first.
    let bytes: Option<Vec<&str>> = (0..serial.len()).step_by(2).map(|at| serial.get(at..at + 2)).collect();
    let hex = serial.bytes().all(|byte| byte.is_ascii_hexdigit());
    let serial: String = bytes.filter(|_| hex)?.into_iter().rev().collect();
    Some(KeptCertificate::Numbered(KeptCertificate::issuer(issuer), serial.to_lowercase()))
        .filter(|_| !serial.is_empty())
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().fold(String::new(), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_certificate_is_known_by_itself_or_by_issuer_and_number() {
        let mapping = "X509:<I>DC=example,DC=tarnmouth, CN=Port Authority<SR>0a0b0C";
        let entry = Entry::of("x", &[("altSecurityIdentities", &[mapping, "X509:<RFC822>ida@x", "X509:<I>CN=x<SR>0"])]);
        let numbered = KeptCertificate::Numbered("dc=example,dc=tarnmouth,cn=port authority".into(), "0c0b0a".into());
        assert_eq!(of(&entry, "altSecurityIdentities"), [numbered]);
        assert!(of(&entry, "").is_empty() && of(&entry, "userCertificate;binary").is_empty());
        let der =
            Entry::of("x", &[("userCertificate;binary", &["0\u{1}\u{2}"]), ("userCertificate", &["no certificate"])]);
        assert!(
            matches!(&of(&der, "userCertificate;binary")[..], [KeptCertificate::Fingerprint(hash)] if hash.len() == 64)
        );
    }
}
