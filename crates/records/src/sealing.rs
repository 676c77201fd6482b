use std::fs::{File, OpenOptions};
use std::io::{self, Read, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{Key, XChaCha20Poly1305, XNonce};
use regnant_radius::Secret;
use sha2::{Digest, Sha256};
use thiserror::Error;
use zeroize::Zeroizing;

use crate::error::RecordsError;

const PREFIX: &str = "regnant-sealing-key-1:";
const NONCE: usize = 24;

/// The key that recoverable secrets are sealed under (XChaCha20-Poly1305). It
/// lives in a file of its own, outside the database.
pub struct SealingKey(XChaCha20Poly1305);

impl SealingKey {
    /// Reads the key file, or makes one (mode 0600) where `path` does not exist. Where
    /// there are `records` already it is not made: they are sealed by the one that is
    /// missing, and another in its place would only hide that.
    pub fn load_or_create(path: &Path, records: &Path) -> Result<Self, KeyError> {
        match File::open(path) {
            Ok(file) => Self::load(path, file),
            Err(error) if error.kind() == io::ErrorKind::NotFound && records.exists() => {
                Err(KeyError::Missing(path.into()))
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => Self::create(path),
            Err(error) => Err(KeyError::Io(path.into(), error)),
        }
    }

    fn load(path: &Path, mut file: File) -> Result<Self, KeyError> {
        let failed = |error| KeyError::Io(path.into(), error);
        let mode = file.metadata().map_err(failed)?.permissions().mode() & 0o777;
        if mode & 0o077 != 0 {
            return Err(KeyError::Readable(path.into(), mode));
        }
        let mut text = Zeroizing::new(String::new());
        file.read_to_string(&mut text).map_err(failed)?;
        let key = text.trim().strip_prefix(PREFIX).and_then(unhex).ok_or_else(|| KeyError::Form(path.into()))?;
        Ok(Self::new(&key))
    }

    fn create(path: &Path) -> Result<Self, KeyError> {
        let key = Zeroizing::new(random::<32>());
        let hex: Zeroizing<String> = Zeroizing::new(key.iter().map(|byte| format!("{byte:02x}")).collect());
        let write = || {
            let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?;
            writeln!(file, "{PREFIX}{}", *hex)?;
            file.sync_all()?;
            // The name is on the disk too before anything is sealed.
            let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
            File::open(folder.unwrap_or(Path::new(".")))?.sync_all()
        };
        write().map_err(|error| KeyError::Io(path.into(), error))?;
        Ok(Self::new(&key))
    }

    fn new(key: &[u8; 32]) -> Self {
        Self(XChaCha20Poly1305::new(&Key::from(*key)))
    }

    /// Seals a secret; `context` says what it is and must be the same to open it.
    pub fn seal(&self, context: &str, secret: &[u8]) -> Vec<u8> {
        let nonce = random::<NONCE>();
        let payload = Payload { msg: secret, aad: context.as_bytes() };
        let sealed = self.0.encrypt(&XNonce::from(nonce), payload).expect("a secret is far shorter than the limit");
        [&nonce[..], &sealed].concat()
    }

    /// Opens what [`SealingKey::seal`] made under the same context.
    pub fn open(&self, context: &str, sealed: &[u8]) -> Result<Secret, RecordsError> {
        let failed = || RecordsError::Sealed(context.to_owned());
        let (nonce, sealed) = sealed.split_first_chunk::<NONCE>().ok_or_else(failed)?;
        let payload = Payload { msg: sealed, aad: context.as_bytes() };
        self.0.decrypt(&XNonce::from(*nonce), payload).map(Secret::new).map_err(|_| failed())
    }
}

impl SealingKey {
    /// 32 bytes for a use, the same every time.
    pub fn derive(&self, purpose: &str) -> [u8; 32] {
        // A fixed nonce is safe here: what it encrypts is never anything else.
        let payload = Payload { msg: &[0; 32], aad: purpose.as_bytes() };
        let nonce = XNonce::from([0xff; NONCE]);
        let made = self.0.encrypt(&nonce, payload).expect("32 bytes are far shorter than the limit");
        // The tag depends on the purpose; the encrypted zeros alone would not.
        Sha256::digest(&made).into()
    }
}

/// Bytes from the system's generator, without which nothing may be sealed.
pub(crate) fn random<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).expect("the system gives random bytes");
    bytes
}

fn unhex(text: &str) -> Option<Zeroizing<[u8; 32]>> {
    let mut key = Zeroizing::new([0; 32]);
    if text.len() != 64 || !text.is_ascii() {
        return None;
    }
    for (at, byte) in key.iter_mut().enumerate() {
        *byte = u8::from_str_radix(&text[2 * at..2 * at + 2], 16).ok()?;
    }
    Some(key)
}

/// Why a key file cannot be used.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum KeyError {
    /// It cannot be read or written.
    #[error("the sealing key {path} cannot be read or made: {1}", path = .0.display())]
    Io(PathBuf, #[source] io::Error),
    /// It is gone, and there are records that it sealed.
    #[error("the sealing key {} is missing, and there are records that it sealed; restore it from your backup, for without it no stored secret opens", .0.display())]
    Missing(PathBuf),
    /// Others than its owner can read it.
    #[error("the sealing key {path} has mode {1:o} and others can read it; run: chmod 600 {path}", path = .0.display())]
    Readable(PathBuf, u32),
    /// It is no key.
    #[error("{} is no sealing key of this service; restore it from your backup, for without it no stored secret opens", .0.display())]
    Form(PathBuf),
}
