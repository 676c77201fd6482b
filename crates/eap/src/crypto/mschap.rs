//! MS-CHAP version 1 and 2 and the keys they give (RFC 2433, 2759 and 3079).

use des::Des;
use des::cipher::{BlockCipherEncrypt, KeyInit};
use md4::{Digest, Md4};
use rc4::StreamCipher;
use sha1::Sha1;
use subtle::ConstantTimeEq;
use zeroize::Zeroizing;

/// MD4 over the password in UTF-16LE (RFC 2759 section 8.3).
pub fn nt_password_hash(password: &str) -> [u8; 16] {
    let wide: Zeroizing<Vec<u8>> = Zeroizing::new(password.encode_utf16().flat_map(u16::to_le_bytes).collect());
    Md4::digest(&wide).into()
}

/// MD4 over the hash (RFC 2759 section 8.4).
pub fn hash_of_hash(hash: &[u8; 16]) -> [u8; 16] {
    Md4::digest(hash).into()
}

/// What the peer's response answers to: eight bytes from both challenges and the
/// name as sent, without a domain before it (RFC 2759 section 8.2).
pub fn challenge_hash(peer_challenge: &[u8; 16], challenge: &[u8; 16], name: &str) -> [u8; 8] {
    let name = name.rsplit_once('\\').map_or(name, |(_, name)| name);
    let digest =
        Sha1::new().chain_update(peer_challenge).chain_update(challenge).chain_update(name.as_bytes()).finalize();
    *digest.first_chunk().expect("SHA-1 gives 20 bytes")
}

/// Three times DES under the parts of the hash (RFC 2759 section 8.5).
pub fn challenge_response(challenge: &[u8; 8], hash: &[u8; 16]) -> [u8; 24] {
    let mut padded = Zeroizing::new([0; 21]);
    padded[..16].copy_from_slice(hash);
    let mut response = [0; 24];
    for (key, out) in padded.chunks_exact(7).zip(response.chunks_exact_mut(8)) {
        let mut block = (*challenge).into();
        Des::new(&spread(key).into()).encrypt_block(&mut block);
        out.copy_from_slice(&block);
    }
    response
}

/// Seven bytes over eight, each with a parity bit that DES does not look at.
fn spread(key: &[u8]) -> [u8; 8] {
    let bits = key.iter().fold(0u64, |bits, byte| bits << 8 | u64::from(*byte));
    std::array::from_fn(|place| ((bits >> (49 - 7 * place)) as u8 & 0x7f) << 1)
}

/// Whether a response was made with the password of this hash.
pub fn response_is_right(challenge: &[u8; 8], response: &[u8; 24], hash: &[u8; 16]) -> bool {
    challenge_response(challenge, hash).ct_eq(response).into()
}

/// `S=` and 40 hexadecimal digits, which prove to the peer that the server knows
/// the password too (RFC 2759 section 8.7).
pub fn authenticator_response(hash_of_hash: &[u8; 16], response: &[u8; 24], challenge_hash: &[u8; 8]) -> String {
    const MAGIC_1: &[u8] = b"Magic server to client signing constant";
    const MAGIC_2: &[u8] = b"Pad to make it do more than one iteration";
    let inner = Sha1::new().chain_update(hash_of_hash).chain_update(response).chain_update(MAGIC_1).finalize();
    let digest = Sha1::new().chain_update(inner).chain_update(challenge_hash).chain_update(MAGIC_2).finalize();
    digest.iter().fold("S=".to_owned(), |text, byte| text + &format!("{byte:02X}"))
}

/// What the peer sends is the receive key of the server (RFC 3079 section 3.3):
/// the two 16-byte keys as the server uses them, receive key first.
pub fn session_keys(hash_of_hash: &[u8; 16], response: &[u8; 24]) -> [u8; 32] {
    const MAGIC: &[u8] = b"This is the MPPE Master Key";
    const SEND: &[u8] = b"On the client side, this is the send key; on the server side, it is the receive key.";
    const RECEIVE: &[u8] = b"On the client side, this is the receive key; on the server side, it is the send key.";
    let digest = Sha1::new().chain_update(hash_of_hash).chain_update(response).chain_update(MAGIC).finalize();
    let master = &digest[..16];
    let key = |magic: &[u8]| {
        Sha1::new().chain_update(master).chain_update([0; 40]).chain_update(magic).chain_update([0xf2; 40]).finalize()
    };
    let mut keys = [0; 32];
    keys[..16].copy_from_slice(&key(SEND)[..16]);
    keys[16..].copy_from_slice(&key(RECEIVE)[..16]);
    keys
}

/// The new password that a peer encrypted under the hash of its old one (RFC 2759
/// section 8.9); `None` where it was another hash.
pub fn decrypt_new_password(encrypted: &[u8; 516], old_hash: &[u8; 16]) -> Option<Zeroizing<String>> {
    let mut clear = Zeroizing::new(*encrypted);
    cipher(old_hash, &mut *clear);
    let (padded, length) = clear.split_last_chunk::<4>()?;
    let length = u32::from_le_bytes(*length) as usize;
    let password = padded.get(padded.len().checked_sub(length)?..)?;
    let wide: Vec<u16> = password.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
    String::from_utf16(&wide).ok().filter(|text| !text.is_empty()).map(Zeroizing::new)
}

/// Encrypts a new password under the hash of the old one; at most 256 characters.
pub fn encrypt_new_password(password: &str, old_hash: &[u8; 16], padding: &[u8; 512]) -> Option<[u8; 516]> {
    let wide: Zeroizing<Vec<u8>> = Zeroizing::new(password.encode_utf16().flat_map(u16::to_le_bytes).collect());
    let start = 512usize.checked_sub(wide.len())?;
    let mut block = [0; 516];
    block[..start].copy_from_slice(&padding[..start]);
    block[start..512].copy_from_slice(&wide);
    block[512..].copy_from_slice(&(wide.len() as u32).to_le_bytes());
    cipher(old_hash, &mut block);
    Some(block)
}

fn cipher(key: &[u8; 16], bytes: &mut [u8]) {
    use rc4::KeyInit;
    let cipher = rc4::Rc4::new_from_slice(key);
    cipher.expect("RC4 takes 16 bytes").apply_keystream(bytes);
}

/// The old hash encrypted under the new one, which proves that the peer knew the
/// old password (RFC 2759 section 8.12).
pub fn encrypt_old_hash(old_hash: &[u8; 16], new_hash: &[u8; 16]) -> [u8; 16] {
    let mut out = [0; 16];
    for ((key, half), out) in
        [&new_hash[..7], &new_hash[7..14]].iter().zip(old_hash.chunks_exact(8)).zip(out.chunks_exact_mut(8))
    {
        let mut block: des::cipher::Block<Des> = <[u8; 8]>::try_from(half).expect("half of 16 bytes").into();
        Des::new(&spread(key).into()).encrypt_block(&mut block);
        out.copy_from_slice(&block);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bytes<const N: usize>(hex: &str) -> [u8; N] {
        let hex: String = hex.split_whitespace().collect();
        std::array::from_fn(|place| u8::from_str_radix(&hex[2 * place..2 * place + 2], 16).unwrap())
    }

    /// RFC 2759 section 9.2.
    const CHALLENGE: &str = "5B 5D 7C 7D 7B 3F 2F 3E 3C 2C 60 21 32 26 26 28";
    const PEER_CHALLENGE: &str = "21 40 23 24 25 5E 26 2A 28 29 5F 2B 3A 33 7C 7E";
    const RESPONSE: &str = "82 30 9E CD 8D 70 8B 5E A0 8F AA 39 81 CD 83 54 42 33 11 4A 3D 85 D6 DF";

    #[test]
    fn the_known_answers_of_rfc_2759_hold() {
        let hash = nt_password_hash("clientPass");
        assert_eq!(hash, bytes("44 EB BA 8D 53 12 B8 D6 11 47 44 11 F5 69 89 AE"));
        assert_eq!(hash_of_hash(&hash), bytes("41 C0 0C 58 4B D2 D9 1C 40 17 A2 A1 2F A5 9F 3F"));
        let challenge = challenge_hash(&bytes(PEER_CHALLENGE), &bytes(CHALLENGE), "User");
        assert_eq!(challenge, bytes("D0 2E 43 86 BC E9 12 26"));
        assert_eq!(challenge_hash(&bytes(PEER_CHALLENGE), &bytes(CHALLENGE), "HARBOUR\\User"), challenge);
        assert_eq!(challenge_response(&challenge, &hash), bytes(RESPONSE));
        assert!(response_is_right(&challenge, &bytes(RESPONSE), &hash));
        let told = authenticator_response(&hash_of_hash(&hash), &bytes(RESPONSE), &challenge);
        assert_eq!(told, "S=407A5589115FD0D6209F510FE9C04566932CDA56");
    }

    #[test]
    fn the_known_answers_of_rfc_3079_hold() {
        // RFC 3079 section 3.5.3: the same exchange, and its 128-bit send key.
        let keys = session_keys(&hash_of_hash(&nt_password_hash("clientPass")), &bytes(RESPONSE));
        assert_eq!(keys[16..], bytes::<16>("8B 7C DC 14 9B 99 3A 1B A1 18 CB 15 3F 56 DC CB"));
    }

    #[test]
    fn a_new_password_comes_out_as_it_went_in_and_only_under_the_old_hash() {
        let (old, new) = (nt_password_hash("Winch-Oil-48"), nt_password_hash("Capstan-Grease-52 é"));
        let sent = encrypt_new_password("Capstan-Grease-52 é", &old, &[7; 512]).unwrap();
        assert_eq!(**decrypt_new_password(&sent, &old).unwrap(), *"Capstan-Grease-52 é");
        assert!(decrypt_new_password(&sent, &new).is_none());
        assert_ne!(encrypt_old_hash(&old, &new), encrypt_old_hash(&new, &old));
        assert!(encrypt_new_password(&"x".repeat(257), &old, &[0; 512]).is_none());
    }
}
