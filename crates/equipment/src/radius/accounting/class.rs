use blake2::Blake2sMac;
use blake2::digest::Mac;
use blake2::digest::consts::U16;
use subtle::ConstantTimeEq;
use ulid::Ulid;

/// A Class of ours (RFC 2865 section 5.25): opaque bytes in an Access-Accept that equipment
/// repeats in its reports, and by which these find their decision.
///
/// ```text
/// | 0x91 | id of the decision, 16 bytes | tag, 16 bytes |
/// ```
/// The tag is a keyed BLAKE2s (RFC 7693) over the bytes before it: it is made for every reply,
/// and an HMAC-SHA256 took five times as long. A report shows only that
/// its sender has seen the Class: whose decision it is says the decision.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DecisionClass([u8; Self::LEN]);

/// No text begins so, and no other form of ours.
const FORM: u8 = 0x91;
const SIGNED: usize = 1 + 16;
/// Nothing else that is made under the same secret is this.
const PURPOSE: &[u8; 8] = b"decision";

impl DecisionClass {
    /// The bytes of it.
    pub const LEN: usize = SIGNED + 16;

    /// The Class of a decision, made under a secret of ours.
    pub fn new(decision: Ulid, secret: &[u8; 32]) -> Self {
        let mut bytes = [FORM; Self::LEN];
        bytes[1..SIGNED].copy_from_slice(&decision.to_bytes());
        let tag = tag(&bytes[..SIGNED], secret);
        bytes[SIGNED..].copy_from_slice(&tag);
        Self(bytes)
    }

    /// The bytes that go out.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// The decision of a Class that was made under this secret; none where it is another's.
    pub fn decision(class: &[u8], secret: &[u8; 32]) -> Option<Ulid> {
        let class: &[u8; Self::LEN] = class.try_into().ok().filter(|class: &&[u8; Self::LEN]| class[0] == FORM)?;
        let right = tag(&class[..SIGNED], secret).ct_eq(&class[SIGNED..]);
        let id = class[1..SIGNED].first_chunk()?;
        bool::from(right).then(|| Ulid::from_bytes(*id))
    }
}

fn tag(signed: &[u8], secret: &[u8; 32]) -> [u8; 16] {
    let keyed = Blake2sMac::<U16>::new_with_salt_and_personal(Some(secret), &[], PURPOSE);
    let keyed = keyed.expect("key and purpose are as long as they may be");
    keyed.chain_update(signed).finalize().into_bytes().into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_was_made_under_the_secret_names_a_decision() {
        let (id, secret) = (Ulid::from_parts(1_795_000_000_000, 7), [7; 32]);
        let class = DecisionClass::new(id, &secret);
        assert!(class.as_bytes().len() <= 40);
        assert_eq!(DecisionClass::decision(class.as_bytes(), &secret), Some(id));
        assert_eq!(DecisionClass::decision(class.as_bytes(), &[8; 32]), None);
        for at in 0..DecisionClass::LEN {
            let mut changed = *class.as_bytes().first_chunk::<{ DecisionClass::LEN }>().unwrap();
            changed[at] ^= 0x20;
            assert_eq!(DecisionClass::decision(&changed, &secret), None, "byte {at}");
            assert_eq!(DecisionClass::decision(&class.as_bytes()[..at], &secret), None, "cut at {at}");
        }
        assert_eq!(DecisionClass::decision(b"crew", &secret), None);
    }
}
