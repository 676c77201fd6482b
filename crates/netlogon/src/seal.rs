//! How what goes over a secure channel is sealed ([MS-NRPC] section 3.3.4.2): signed with
//! HMAC-SHA256, under AES-128 in CFB8.
//!
//! ```text
//!  0                   1                   2                   3
//!  0 1 2 3 4 5 6 7 8 9 0 1 2 3 4 5 6 7 8 9 0 1 2 3 4 5 6 7 8 9 0 1
//! +-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+
//! |   signature algorithm 0x0013  |     seal algorithm 0x001A     |
//! |            pad 0xFFFF         |            flags 0            |
//! |                     sequence number (8)                       |
//! |                     checksum (8)                              |
//! |                     confounder (8)                            |
//! |                     nothing (24)                              |
//! ```

use subtle::ConstantTimeEq;

use crate::crypto::SessionKey;

/// The bytes of a signature.
pub(crate) const SIGNATURE: usize = 56;

const HEAD: [u8; 8] = [0x13, 0x00, 0x1a, 0x00, 0xff, 0xff, 0x00, 0x00];

/// Seals what is sent and opens what comes. Both sides count what goes either way in one order.
#[derive(Debug)]
pub(crate) struct Seal {
    key: SessionKey,
    next: u64,
}

/// What comes was made by somebody else, or out of order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Forged;

impl Seal {
    pub(crate) fn new(key: SessionKey) -> Self {
        Self { key, next: 0 }
    }

    /// Encrypts contents in place, and gives their signature.
    pub(crate) fn seal(&mut self, contents: &mut [u8], confounder: [u8; 8]) -> [u8; SIGNATURE] {
        let sequence = sequence(self.next, true);
        self.next += 1;
        made(&self.key, sequence, confounder, contents)
    }

    /// Decrypts contents in place, if the other side made them and they are the next.
    pub(crate) fn open(&mut self, contents: &mut [u8], signature: &[u8]) -> Result<(), Forged> {
        let (Some(head), Some(stated), Some(checksum), Some(confounder)) =
            (part(signature, 0), part(signature, 8), part(signature, 16), part(signature, 24))
        else {
            return Err(Forged);
        };
        let expected = sequence(self.next, false);
        let mut confounder: [u8; 8] = confounder;
        let mut stream = self.key.content_stream(twice(expected));
        stream.decrypt(&mut confounder);
        stream.decrypt(contents);
        let made = self.key.checksum(&[&HEAD, &confounder, contents]);
        let hidden = hidden(&self.key, expected, &made);
        let right = head.ct_eq(&HEAD) & checksum.ct_eq(&made) & stated.ct_eq(&hidden);
        self.next += 1;
        if right.into() { Ok(()) } else { Err(Forged) }
    }
}

fn made(key: &SessionKey, sequence: [u8; 8], mut confounder: [u8; 8], contents: &mut [u8]) -> [u8; SIGNATURE] {
    let checksum = key.checksum(&[&HEAD, &confounder, contents]);
    let mut stream = key.content_stream(twice(sequence));
    stream.encrypt(&mut confounder);
    stream.encrypt(contents);
    let hidden = hidden(key, sequence, &checksum);
    let mut signature = [0; SIGNATURE];
    for (place, part) in [HEAD, hidden, checksum, confounder].iter().enumerate() {
        signature[8 * place..8 * (place + 1)].copy_from_slice(part);
    }
    signature
}

/// The number of a message: its high half first, big-endian, and whether the client sent it.
fn sequence(number: u64, of_client: bool) -> [u8; 8] {
    let (low, high) = (number as u32, (number >> 32) as u32);
    let [a, b, c, d] = low.to_be_bytes();
    let [e, f, g, h] = high.to_be_bytes();
    [a, b, c, d, if of_client { e | 0x80 } else { e }, f, g, h]
}

fn hidden(key: &SessionKey, sequence: [u8; 8], checksum: &[u8; 8]) -> [u8; 8] {
    let mut hidden = sequence;
    key.stream(twice(*checksum)).encrypt(&mut hidden);
    hidden
}

fn twice(half: [u8; 8]) -> [u8; 16] {
    std::array::from_fn(|place| half[place % 8])
}

fn part(signature: &[u8], at: usize) -> Option<[u8; 8]> {
    signature.get(at..at + 8)?.try_into().ok()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// The other side of a client's seal.
    fn answer(key: &SessionKey, number: u64, contents: &mut [u8]) -> [u8; SIGNATURE] {
        made(key, sequence(number, false), [7; 8], contents)
    }

    #[test]
    fn what_is_changed_repeated_or_left_out_does_not_open() {
        let key = SessionKey([3; 16]);
        let text = *b"the harbour master";
        let (mut first, mut second) = (text, text);
        let signatures = [answer(&key, 0, &mut first), answer(&key, 1, &mut second)];
        let open = |seal: &mut Seal, sealed: &[u8], signature: &[u8]| {
            let mut contents = sealed.to_vec();
            seal.open(&mut contents, signature).map(|()| contents)
        };
        let mut seal = Seal::new(key.clone());
        assert_eq!(open(&mut seal, &first, &signatures[0]), Ok(text.to_vec()));
        assert_eq!(open(&mut seal, &second, &signatures[1]), Ok(text.to_vec()));
        assert_eq!(open(&mut seal, &second, &signatures[1]), Err(Forged), "repeated");
        assert_eq!(open(&mut Seal::new(key.clone()), &second, &signatures[1]), Err(Forged), "the first is missing");
        for place in 0..32 {
            let mut changed = signatures[0];
            changed[place] ^= 1;
            assert_eq!(open(&mut Seal::new(key.clone()), &first, &changed), Err(Forged), "{place}");
        }
        for place in 0..first.len() {
            let mut changed = first;
            changed[place] ^= 1;
            assert_eq!(open(&mut Seal::new(key.clone()), &changed, &signatures[0]), Err(Forged));
        }
        assert_eq!(open(&mut Seal::new(SessionKey([4; 16])), &first, &signatures[0]), Err(Forged));
        for length in 0..32 {
            assert_eq!(open(&mut Seal::new(key.clone()), &first, &signatures[0][..length]), Err(Forged));
        }
        // What a client sent is no answer.
        let mut own = text;
        let signature = Seal::new(key.clone()).seal(&mut own, [7; 8]);
        assert_eq!(open(&mut Seal::new(key), &own, &signature), Err(Forged));
    }

    proptest! {
        #[test]
        fn whatever_comes_opens_or_does_not(mut contents: Vec<u8>, signature: Vec<u8>) {
            prop_assert_eq!(Seal::new(SessionKey([1; 16])).open(&mut contents, &signature), Err(Forged));
        }
    }
}
