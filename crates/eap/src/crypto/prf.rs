//! The key derivations that tunnels need beside the TLS library's own.

use hmac::digest::KeyInit;
use hmac::{Hmac, Mac};
use sha1::Sha1;
use sha2::{Sha256, Sha384};

/// The hash of a TLS cipher suite.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum SuiteHash {
    Sha256,
    Sha384,
}

impl SuiteHash {
    /// An HMAC over parts.
    pub(crate) fn mac(self, key: &[u8], parts: &[&[u8]]) -> Vec<u8> {
        match self {
            Self::Sha256 => mac::<Hmac<Sha256>>(key, parts),
            Self::Sha384 => mac::<Hmac<Sha384>>(key, parts),
        }
    }

    /// The pseudorandom function of TLS 1.2 (RFC 5246 section 5).
    pub(crate) fn prf(self, secret: &[u8], label: &str, seed: &[u8], length: usize) -> Vec<u8> {
        let seed = [label.as_bytes(), seed].concat();
        let mut a = self.mac(secret, &[&seed]);
        let mut out = Vec::with_capacity(length + 48);
        while out.len() < length {
            out.extend(self.mac(secret, &[&a, &seed]));
            a = self.mac(secret, &[&a]);
        }
        out.truncate(length);
        out
    }
}

fn keyed<M: Mac + KeyInit>(key: &[u8]) -> M {
    <M as KeyInit>::new_from_slice(key).expect("HMAC takes a key of any length (RFC 2104 section 2)")
}

fn finish<M: Mac>(mut mac: M, parts: &[&[u8]]) -> Vec<u8> {
    parts.iter().for_each(|part| mac.update(part));
    mac.finalize().into_bytes().to_vec()
}

fn mac<M: Mac + KeyInit>(key: &[u8], parts: &[&[u8]]) -> Vec<u8> {
    finish(keyed::<M>(key), parts)
}

/// HMAC-SHA1, as PEAP's binding uses it.
pub(crate) fn hmac_sha1(key: &[u8], parts: &[&[u8]]) -> Vec<u8> {
    mac::<Hmac<Sha1>>(key, parts)
}

/// The PRF+ of PEAP version 0: each block is made from the one before, the seed,
/// a counter and two zero bytes.
pub(crate) fn peap_prf(key: &[u8], label: &str, seed: &[u8], length: usize) -> Vec<u8> {
    let mut out = Vec::with_capacity(length + 20);
    let mut block = Vec::new();
    // The key is worked in once for all blocks.
    let keyed = keyed::<Hmac<Sha1>>(key);
    for counter in 1u8.. {
        block = finish(keyed.clone(), &[&block, label.as_bytes(), seed, &[counter, 0, 0]]);
        out.extend_from_slice(&block);
        if out.len() >= length {
            break;
        }
    }
    out.truncate(length);
    out
}
