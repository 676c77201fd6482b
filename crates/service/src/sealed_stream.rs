//! A stream under a passphrase: XChaCha20-Poly1305 in the STREAM construction (Hoang,
//! Reyhanitabar, Rogaway, Vizár 2015), under a key by Argon2id (RFC 9106).
//!
//! ```text
//!  magic (24) | salt (16) | nonce (19) | part | part | ...
//! ```
//! A part is 64 KiB of what is sealed, and a tag of 16 bytes; the last may be shorter. Its nonce
//! is the nonce, its number (4 bytes), and whether it is the last (1 byte): no part can be left
//! out, put elsewhere, or be the end before the end.

use std::io::{self, Read, Write};

use argon2::{Algorithm, Argon2, Params, Version};
use chacha20poly1305::aead::{Aead, KeyInit};
use chacha20poly1305::{Key, XChaCha20Poly1305, XNonce};
use regnant_base::{Secret, SecretText};
use thiserror::Error;

/// What every one begins with.
pub(crate) const MAGIC: &[u8; 24] = b"regnant sealed stream 1\n";
const SALT: usize = 16;
const NONCE: usize = 19;
const PART: usize = 64 << 10;
const TAG: usize = 16;
/// RFC 9106 section 4, the second recommended option: 64 MiB, 3 passes, 4 lanes.
const MEMORY_KIB: u32 = 64 << 10;
const PASSES: u32 = 3;
const LANES: u32 = 4;
/// Characters of the shortest passphrase that is taken.
const SHORTEST: usize = 12;

/// Why a stream is not written or read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum StreamError {
    /// It is guessed soon.
    #[error("a passphrase has at least {SHORTEST} characters: it guards the key to every secret")]
    Short,
    /// It does not open, or was changed.
    #[error("it does not open: the passphrase is another, or the file was changed or is cut; nothing was replaced")]
    Passphrase,
}

struct Cipher {
    cipher: XChaCha20Poly1305,
    nonce: [u8; NONCE],
    number: u32,
}

impl Cipher {
    fn new(passphrase: &SecretText, salt: &[u8], nonce: [u8; NONCE]) -> Self {
        let params = Params::new(MEMORY_KIB, PASSES, LANES, Some(32)).expect("the parameters are the standard's");
        let mut key = [0; 32];
        Argon2::new(Algorithm::Argon2id, Version::V0x13, params)
            .hash_password_into(passphrase.expose().as_bytes(), salt, &mut key)
            .expect("salt and key have lengths that Argon2 takes");
        let secret = Secret::new(key);
        let cipher = XChaCha20Poly1305::new(&Key::try_from(secret.expose()).expect("it has 32 bytes"));
        Self { cipher, nonce, number: 0 }
    }

    fn nonce(&mut self, last: bool) -> io::Result<XNonce> {
        let mut nonce = [0; NONCE + 5];
        nonce[..NONCE].copy_from_slice(&self.nonce);
        nonce[NONCE..NONCE + 4].copy_from_slice(&self.number.to_be_bytes());
        nonce[NONCE + 4] = last.into();
        self.number = self.number.checked_add(1).ok_or_else(|| io::Error::other("it is too long"))?;
        Ok(XNonce::from(nonce))
    }
}

/// Seals what is written into it.
pub(crate) struct Sealing<W> {
    output: W,
    cipher: Cipher,
    part: Vec<u8>,
}

impl<W: Write> Sealing<W> {
    pub(crate) fn begin(mut output: W, passphrase: &SecretText) -> Result<Self, BeginError> {
        if passphrase.expose().chars().count() < SHORTEST {
            return Err(BeginError::Stream(StreamError::Short));
        }
        let (mut salt, mut nonce) = ([0; SALT], [0; NONCE]);
        getrandom::fill(&mut salt).expect("the system gives random bytes");
        getrandom::fill(&mut nonce).expect("the system gives random bytes");
        output.write_all(&[&MAGIC[..], &salt, &nonce].concat())?;
        Ok(Self { output, cipher: Cipher::new(passphrase, &salt, nonce), part: Vec::with_capacity(PART) })
    }

    /// The last part, which every stream has.
    pub(crate) fn end(mut self) -> io::Result<()> {
        self.seal(true)?;
        self.output.flush()
    }

    fn seal(&mut self, last: bool) -> io::Result<()> {
        let nonce = self.cipher.nonce(last)?;
        let sealed = self.cipher.cipher.encrypt(&nonce, &*self.part);
        self.part.clear();
        self.output.write_all(&sealed.map_err(|_| io::Error::other("a part cannot be sealed"))?)
    }
}

impl<W: Write> Write for Sealing<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        // A full part waits until more comes: the last one says so.
        if self.part.len() == PART {
            self.seal(false)?;
        }
        let count = bytes.len().min(PART - self.part.len());
        self.part.extend_from_slice(&bytes[..count]);
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Opens what was sealed.
pub(crate) struct Opened<R> {
    input: R,
    cipher: Cipher,
    part: Vec<u8>,
    at: usize,
    ended: bool,
}

impl<R: Read> Opened<R> {
    pub(crate) fn begin(mut input: R, passphrase: &SecretText) -> Result<Self, BeginError> {
        let mut head = [0; MAGIC.len() + SALT + NONCE];
        input.read_exact(&mut head)?;
        let (magic, rest) = head.split_at(MAGIC.len());
        let (salt, nonce) = rest.split_at(SALT);
        if magic != MAGIC {
            return Err(BeginError::Stream(StreamError::Passphrase));
        }
        let nonce = nonce.try_into().expect("it has as many bytes");
        Ok(Self { input, cipher: Cipher::new(passphrase, salt, nonce), part: Vec::new(), at: 0, ended: false })
    }

    fn open(&mut self) -> io::Result<()> {
        let mut sealed = Vec::with_capacity(PART + TAG);
        self.input.by_ref().take((PART + TAG) as u64).read_to_end(&mut sealed)?;
        // A full part is the last where nothing comes after it, which its nonce has to say too.
        let number = self.cipher.number;
        for last in [sealed.len() < PART + TAG, true] {
            self.cipher.number = number;
            let nonce = self.cipher.nonce(last)?;
            if let Ok(part) = self.cipher.cipher.decrypt(&nonce, &*sealed) {
                (self.part, self.at, self.ended) = (part, 0, last);
                return Ok(());
            }
        }
        Err(io::Error::other(StreamError::Passphrase))
    }
}

impl<R: Read> Read for Opened<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.at == self.part.len() {
            if self.ended {
                // Whatever comes after the end was put there by somebody.
                return match self.input.read(&mut [0])? {
                    0 => Ok(0),
                    _ => Err(io::Error::other(StreamError::Passphrase)),
                };
            }
            self.open()?;
        }
        let count = buffer.len().min(self.part.len() - self.at);
        buffer[..count].copy_from_slice(&self.part[self.at..self.at + count]);
        self.at += count;
        Ok(count)
    }
}

/// Why a stream does not begin.
#[derive(Debug, Error)]
pub(crate) enum BeginError {
    #[error(transparent)]
    Stream(#[from] StreamError),
    #[error(transparent)]
    Io(#[from] io::Error),
}

impl From<BeginError> for crate::backup::BackupError {
    fn from(error: BeginError) -> Self {
        match error {
            BeginError::Stream(error) => error.into(),
            BeginError::Io(error) => error.into(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sealed(bytes: &[u8], passphrase: &str) -> Vec<u8> {
        let mut output = Vec::new();
        let mut sealing = Sealing::begin(&mut output, &passphrase.to_owned().into()).unwrap();
        sealing.write_all(bytes).unwrap();
        sealing.end().unwrap();
        output
    }

    fn opened(bytes: &[u8], passphrase: &str) -> io::Result<Vec<u8>> {
        let mut all = Vec::new();
        let mut opened = Opened::begin(bytes, &passphrase.to_owned().into()).map_err(io::Error::other)?;
        opened.read_to_end(&mut all).map(|_| all)
    }

    const PASSPHRASE: &str = "seven ropes and a lantern";

    #[test]
    fn what_was_sealed_opens_under_its_passphrase_alone() {
        for length in [0, 1, PART - 1, PART, PART + 1, 2 * PART, 2 * PART + 7] {
            let bytes: Vec<u8> = (0..length).map(|at| at as u8).collect();
            let sealed = sealed(&bytes, PASSPHRASE);
            assert_eq!(opened(&sealed, PASSPHRASE).unwrap(), bytes, "{length}");
        }
        assert!(opened(&sealed(b"x", PASSPHRASE), "seven ropes and a lanterm").is_err());
        assert!(matches!(
            Sealing::begin(Vec::new(), &"short".to_owned().into()).err(),
            Some(BeginError::Stream(StreamError::Short))
        ));
    }

    #[test]
    fn nothing_can_be_changed_cut_moved_or_added() {
        let bytes: Vec<u8> = (0..2 * PART + 9).map(|at| (at / 7) as u8).collect();
        let whole = sealed(&bytes, PASSPHRASE);
        let head = MAGIC.len() + SALT + NONCE;
        let part = PART + TAG;
        let mut wrong = Vec::new();
        for at in [0, MAGIC.len(), head - 1, head, head + part, whole.len() - 1] {
            let mut changed = whole.clone();
            changed[at] ^= 1;
            wrong.push(changed);
        }
        for end in [0, head, head + part, head + 2 * part, whole.len() - 1] {
            wrong.push(whole[..end].to_vec());
        }
        wrong.push(
            [
                &whole[..head],
                &whole[head + part..head + 2 * part],
                &whole[head..head + part],
                &whole[head + 2 * part..],
            ]
            .concat(),
        );
        wrong.push([&whole[..], b"x"].concat());
        for (number, wrong) in wrong.iter().enumerate() {
            assert!(opened(wrong, PASSPHRASE).is_err(), "{number}");
        }
    }
}
