//! The cryptography of the secure channel ([MS-NRPC] section 3.1.4), with AES and SHA-2 alone:
//! controllers that offer less are not spoken with.

use std::fmt;

use aes::Aes128;
use aes::cipher::{BlockCipherEncrypt, KeyInit};
use hmac::{Hmac, Mac};
use md4::{Digest, Md4};
use regnant_base::Secret;
use sha2::Sha256;
use subtle::ConstantTimeEq;
use zeroize::{Zeroize, ZeroizeOnDrop};

/// Eight bytes that prove a side: a challenge under the session key.
#[derive(Clone, Copy, PartialEq, Eq)]
pub struct Credential(pub(crate) [u8; 8]);

/// What a machine's password is worked with: MD4 over it (the NT hash).
#[derive(Clone, Zeroize, ZeroizeOnDrop)]
pub struct PasswordHash([u8; 16]);

/// The key of a secure channel.
#[derive(Clone, Zeroize, ZeroizeOnDrop)]
pub struct SessionKey(pub(crate) [u8; 16]);

impl PasswordHash {
    /// That of a password; whatever is no UTF-8 is no password.
    pub fn of(password: &Secret) -> Option<Self> {
        let text = std::str::from_utf8(password.expose()).ok()?;
        let mut bytes: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let hash = Self(Md4::digest(&bytes).into());
        bytes.zeroize();
        Some(hash)
    }
}

impl SessionKey {
    /// The key that both sides make of their challenges ([MS-NRPC] section 3.1.4.3.1).
    pub fn new(hash: &PasswordHash, client: &[u8; 8], server: &[u8; 8]) -> Self {
        let whole = hmac(&hash.0, &[client, server]);
        Self(first(&whole))
    }

    /// The proof that a side knows the key, for its challenge ([MS-NRPC] section 3.1.4.4.1).
    pub fn credential(&self, challenge: &[u8; 8]) -> Credential {
        let mut bytes = *challenge;
        self.stream([0; 16]).encrypt(&mut bytes);
        Credential(bytes)
    }

    /// CFB8 under this key from here on.
    pub(crate) fn stream(&self, iv: [u8; 16]) -> Cfb8 {
        Cfb8 { cipher: Aes128::new(&self.0.into()), register: iv }
    }

    /// CFB8 under the key for contents ([MS-NRPC] section 3.3.4.2.1).
    pub(crate) fn content_stream(&self, iv: [u8; 16]) -> Cfb8 {
        Cfb8 { cipher: Aes128::new(&self.0.map(|byte| byte ^ 0xf0).into()), register: iv }
    }

    /// The first bytes of an HMAC-SHA256 under this key.
    pub(crate) fn checksum(&self, parts: &[&[u8]]) -> [u8; 8] {
        first(&hmac(&self.0, parts))
    }
}

impl Credential {
    /// Whether they are the same, told in constant time.
    pub fn is(&self, other: &[u8; 8]) -> bool {
        self.0.ct_eq(other).into()
    }
}

fn hmac(key: &[u8], parts: &[&[u8]]) -> [u8; 32] {
    let mut mac = <Hmac<Sha256> as KeyInit>::new_from_slice(key).expect("an HMAC takes a key of any length");
    parts.iter().for_each(|part| mac.update(part));
    mac.finalize().into_bytes().into()
}

fn first<const N: usize>(whole: &[u8; 32]) -> [u8; N] {
    std::array::from_fn(|place| whole[place])
}

/// AES-128 in cipher feedback of eight bits, a byte after the other.
pub(crate) struct Cfb8 {
    cipher: Aes128,
    register: [u8; 16],
}

impl Cfb8 {
    pub(crate) fn encrypt(&mut self, bytes: &mut [u8]) {
        for byte in bytes {
            *byte ^= self.next();
            self.shift(*byte);
        }
    }

    pub(crate) fn decrypt(&mut self, bytes: &mut [u8]) {
        for byte in bytes {
            let sealed = *byte;
            *byte ^= self.next();
            self.shift(sealed);
        }
    }

    fn next(&self) -> u8 {
        let mut block = self.register.into();
        self.cipher.encrypt_block(&mut block);
        block[0]
    }

    fn shift(&mut self, sealed: u8) {
        self.register.rotate_left(1);
        self.register[15] = sealed;
    }
}

impl fmt::Debug for PasswordHash {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("PasswordHash(..)")
    }
}

impl fmt::Debug for SessionKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SessionKey(..)")
    }
}

impl fmt::Debug for Credential {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Credential(..)")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bytes<const N: usize>(hex: &str) -> [u8; N] {
        let digits: String = hex.chars().filter(char::is_ascii_hexdigit).collect();
        std::array::from_fn(|place| u8::from_str_radix(&digits[2 * place..2 * place + 2], 16).unwrap())
    }

    /// Made by other programs: HMAC-SHA256 of Python, AES-128-CFB8 of OpenSSL.
    #[test]
    fn a_session_key_and_credentials_are_those_of_others() {
        let hash = PasswordHash(bytes("31a590170a351fd51148b2a10af2c305"));
        let (client, server) = (bytes("3a0390a46d0c3d4f"), bytes("0c4c13d16041c860"));
        let key = SessionKey::new(&hash, &client, &server);
        assert_eq!(key.0, bytes("fdc7815fdbdbb1a6a08d0fda749edb18"));
        assert_eq!(key.credential(&client).0, bytes("c43e8c706184b992"));
        assert_eq!(key.credential(&server).0, bytes("f2c027dca409fad7"));
    }

    /// NIST SP 800-38A, section F.3.7: CFB8-AES128.
    #[test]
    fn cfb8_gives_the_known_answers() {
        let key = SessionKey(bytes("2b7e151628aed2a6abf7158809cf4f3c"));
        let iv = bytes("000102030405060708090a0b0c0d0e0f");
        let plain: [u8; 18] = bytes("6bc1bee22e409f96e93d7e117393172aae2d");
        let mut text = plain;
        key.stream(iv).encrypt(&mut text);
        assert_eq!(text, bytes::<18>("3b79424c9c0dd436bace9e0ed4586a4f32b9"));
        key.stream(iv).decrypt(&mut text);
        assert_eq!(text, plain);
        // In pieces it is the same.
        let mut stream = key.stream(iv);
        let (one, other) = text.split_at_mut(7);
        stream.encrypt(one);
        stream.encrypt(other);
        assert_eq!(text, bytes::<18>("3b79424c9c0dd436bace9e0ed4586a4f32b9"));
    }
}
