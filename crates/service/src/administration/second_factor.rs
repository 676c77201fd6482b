//! Time-based one-time passwords (RFC 6238) as a second factor, and recovery codes.

use hmac::{Hmac, KeyInit, Mac};
use regnant_base::{Secret, SecretText};
use regnant_records::{ShownCode, TokenHash, token_hash};
use serde::Serialize;
use sha1::Sha1;
use utoipa::ToSchema;

/// RFC 6238 section 4: the time step, in seconds, and RFC 4226 section 5.3: the digits.
const STEP: u64 = 30;
const DIGITS: usize = 6;
/// RFC 4226 section 4: the length of the secret that it recommends.
const SECRET: usize = 20;
const RECOVERY_CODES: usize = 10;
const BASE32: &[u8; 32] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZ234567";

/// The secret of a second factor that was made and is not set yet.
#[derive(Serialize, ToSchema)]
pub(crate) struct NewSecondFactor {
    /// In Base32, to be typed into an authenticator.
    #[schema(value_type = String)]
    secret: SecretText,
    /// The same as an `otpauth` address, which authenticators read from a picture.
    #[schema(value_type = String)]
    uri: SecretText,
}

impl NewSecondFactor {
    pub(crate) fn make(name: &str) -> Self {
        let secret = base32(&random::<SECRET>());
        let label: String = name
            .bytes()
            .map(|byte| match byte {
                b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' => char::from(byte).to_string(),
                byte => format!("%{byte:02X}"),
            })
            .collect();
        let uri = format!("otpauth://totp/Regnant:{label}?secret={secret}&issuer=Regnant");
        Self { secret: secret.into(), uri: uri.into() }
    }
}

/// What was shown at a sign-in, where it opens: the code of now, of the step before or the
/// one after (RFC 6238 section 5.2), or a recovery code that is left.
pub(crate) fn shown(secret: &Secret, recovery: &[TokenHash], code: &SecretText, now: u64) -> Option<ShownCode> {
    if let Some(step) = step_of(secret, code, now) {
        return Some(ShownCode::Step(step));
    }
    let hash = token_hash(&plain(code));
    recovery.contains(&hash).then_some(ShownCode::Recovery(hash))
}

/// The time step of a code; none where it is none of about now.
pub(crate) fn step_of(secret: &Secret, code: &SecretText, now: u64) -> Option<i64> {
    let (step, code) = ((now / STEP).cast_signed(), Secret::new(plain(code)));
    // Secrets are compared in constant time.
    [step, step - 1, step + 1].into_iter().find(|step| Secret::new(code_of(secret, *step, DIGITS)) == code)
}

/// Reads a secret in Base32.
pub(crate) fn read_secret(text: &SecretText) -> Option<Secret> {
    let (mut bits, mut count, mut bytes) = (0_u32, 0, Vec::new());
    for letter in text.expose().trim().bytes() {
        let value = BASE32.iter().position(|known| *known == letter.to_ascii_uppercase())?;
        (bits, count) = ((bits << 5 | value as u32) & 0xfff, count + 5);
        if count >= 8 {
            count -= 8;
            bytes.push((bits >> count) as u8);
        }
    }
    (bytes.len() == SECRET).then(|| Secret::new(bytes))
}

/// New recovery codes, and what is kept of them. Each has 80 bits, so a plain hash suffices.
pub(crate) fn recovery_codes() -> (Vec<String>, Vec<TokenHash>) {
    let codes: Vec<_> = (0..RECOVERY_CODES)
        .map(|_| {
            let code = base32(&random::<10>()).to_lowercase();
            format!("{}-{}-{}-{}", &code[..4], &code[4..8], &code[8..12], &code[12..])
        })
        .collect();
    let hashes = codes.iter().map(|code| token_hash(&code.replace('-', ""))).collect();
    (codes, hashes)
}

/// A code as it is compared: people group what they read.
fn plain(code: &SecretText) -> String {
    code.expose().chars().filter(char::is_ascii_alphanumeric).map(|c| c.to_ascii_lowercase()).collect()
}

/// RFC 4226 section 5.3.
fn code_of(secret: &Secret, step: i64, digits: usize) -> String {
    let keyed = Hmac::<Sha1>::new_from_slice(secret.expose()).expect("HMAC takes a key of any length");
    let hash = keyed.chain_update(step.to_be_bytes()).finalize().into_bytes();
    let at = usize::from(hash[19] & 0xf);
    let number = u32::from_be_bytes([hash[at] & 0x7f, hash[at + 1], hash[at + 2], hash[at + 3]]);
    format!("{:0digits$}", u64::from(number) % 10_u64.pow(digits as u32))
}

fn base32(bytes: &[u8]) -> String {
    let (mut bits, mut count, mut text) = (0_u32, 0, String::new());
    for byte in bytes {
        (bits, count) = ((bits << 8 | u32::from(*byte)) & 0xffff, count + 8);
        while count >= 5 {
            count -= 5;
            text.push(char::from(BASE32[(bits >> count) as usize & 31]));
        }
    }
    text
}

fn random<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).expect("the system gives random bytes");
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    /// RFC 6238 appendix B, SHA-1.
    #[test]
    fn codes_are_those_of_the_standard() {
        let secret = Secret::new(*b"12345678901234567890");
        for (time, code) in [
            (59, "94287082"),
            (1_111_111_109, "07081804"),
            (1_111_111_111, "14050471"),
            (1_234_567_890, "89005924"),
            (2_000_000_000, "69279037"),
            (20_000_000_000, "65353130"),
        ] {
            assert_eq!(code_of(&secret, time / 30, 8), code, "{time}");
        }
    }

    #[test]
    fn a_code_counts_about_its_time_and_a_recovery_code_always() {
        let secret = read_secret(&base32(b"12345678901234567890").into()).unwrap();
        let (codes, hashes) = recovery_codes();
        let at = |now: u64, code: &str| shown(&secret, &hashes, &code.to_owned().into(), now);
        assert_eq!(at(59, "287 082"), Some(ShownCode::Step(1)));
        assert_eq!(at(0, "287082"), Some(ShownCode::Step(1)), "a clock half a minute behind");
        assert_eq!(at(89, "287082"), Some(ShownCode::Step(1)), "and ahead");
        assert_eq!(at(90, "287082"), None);
        assert_eq!(at(59, ""), None);
        assert_eq!(at(5, &codes[3].to_uppercase()), Some(ShownCode::Recovery(hashes[3])));
        assert!(read_secret(&"GEZDGNBV".to_owned().into()).is_none() && read_secret(&"é".to_owned().into()).is_none());
    }
}
