use std::fmt;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{Key, XChaCha20Poly1305, XNonce};
use regnant_base::Secret;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use thiserror::Error;
use zeroize::Zeroizing;

use crate::error::RecordsError;

const PREFIX: &str = "regnant-sealing-key-1:";
const NONCE: usize = 24;

/// The key that secrets are sealed under (XChaCha20-Poly1305). It lives in a file of its
/// own, outside the database.
pub struct SealingKey {
    cipher: XChaCha20Poly1305,
    id: KeyId,
}

/// Which key it is; follows from the key, and tells nothing about it.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct KeyId([u8; 8]);

/// A secret that is sealed, and under which key.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Sealed(Vec<u8>);

impl SealingKey {
    /// Reads the key file, or makes one (mode 0600) where `path` does not exist. Where
    /// there are `records` already it is not made: they are sealed by the one that is
    /// missing, and another in its place would only hide that.
    pub fn load_or_create(path: &Path, records: &Path) -> Result<Self, KeyError> {
        match File::open(path) {
            Ok(file) => Self::read(path, file),
            Err(error) if error.kind() == io::ErrorKind::NotFound && records.exists() => {
                Err(KeyError::Missing(path.into()))
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => Self::create(path),
            Err(error) => Err(KeyError::Io(path.into(), error)),
        }
    }

    /// Reads the key file.
    pub fn load(path: &Path) -> Result<Self, KeyError> {
        Self::read(path, File::open(path).map_err(|error| KeyError::Io(path.into(), error))?)
    }

    fn read(path: &Path, mut file: File) -> Result<Self, KeyError> {
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

    /// Makes a key file; there must be none.
    pub fn create(path: &Path) -> Result<Self, KeyError> {
        let key = Zeroizing::new(random::<32>());
        let hex: Zeroizing<String> = Zeroizing::new(hex(&*key));
        let write = || {
            let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?;
            writeln!(file, "{PREFIX}{}", *hex)?;
            file.sync_all()?;
            // The name is on the disk too before anything is sealed.
            sync_folder_of(path)
        };
        write().map_err(|error| KeyError::Io(path.into(), error))?;
        Ok(Self::new(&key))
    }

    /// Copies a key file, over what is there; on the disk, name and all, when this is over.
    pub fn copy(from: &Path, to: &Path) -> Result<(), KeyError> {
        let copy = || {
            let bytes = Zeroizing::new(fs::read(from)?);
            let part = to.with_added_extension("part");
            match fs::remove_file(&part) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
                _ => {}
            }
            let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&part)?;
            file.write_all(&bytes)?;
            file.sync_all()?;
            fs::rename(&part, to)?;
            sync_folder_of(to)
        };
        copy().map_err(|error| KeyError::Io(to.into(), error))
    }

    /// Puts a key file in the place of another.
    pub fn replace(path: &Path, with: &Path) -> Result<(), KeyError> {
        let put = || {
            fs::rename(with, path)?;
            sync_folder_of(path)
        };
        put().map_err(|error| KeyError::Io(path.into(), error))
    }

    fn new(key: &[u8; 32]) -> Self {
        let mut key = Self { cipher: XChaCha20Poly1305::new(&Key::from(*key)), id: KeyId([0; 8]) };
        let digest = key.derive("which key it is");
        key.id.0.copy_from_slice(&digest[..8]);
        key
    }

    /// Which key it is.
    pub fn id(&self) -> KeyId {
        self.id
    }

    /// Seals a secret; `context` says what it is and must be the same to open it.
    pub fn seal(&self, context: &str, secret: &[u8]) -> Sealed {
        let nonce = random::<NONCE>();
        let payload = Payload { msg: secret, aad: context.as_bytes() };
        let sealed =
            self.cipher.encrypt(&XNonce::from(nonce), payload).expect("a secret is far shorter than the limit");
        Sealed([&self.id.0[..], &nonce, &sealed].concat())
    }

    /// Opens what [`SealingKey::seal`] made under the same context.
    pub fn open(&self, context: &str, sealed: &Sealed) -> Result<Secret, RecordsError> {
        let failed = || RecordsError::Sealed(context.to_owned());
        let (id, rest) = sealed.0.split_first_chunk().ok_or_else(failed)?;
        let (nonce, sealed) = rest.split_first_chunk::<NONCE>().ok_or_else(failed)?;
        if *id != self.id.0 {
            return Err(failed());
        }
        let payload = Payload { msg: sealed, aad: context.as_bytes() };
        self.cipher.decrypt(&XNonce::from(*nonce), payload).map(Secret::new).map_err(|_| failed())
    }

    /// 32 bytes for a use, the same every time.
    pub fn derive(&self, purpose: &str) -> [u8; 32] {
        // A fixed nonce is safe here: what it encrypts is never anything else.
        let payload = Payload { msg: &[0; 32], aad: purpose.as_bytes() };
        let nonce = XNonce::from([0xff; NONCE]);
        let made = self.cipher.encrypt(&nonce, payload).expect("32 bytes are far shorter than the limit");
        // The tag depends on the purpose; the encrypted zeros alone would not.
        Sha256::digest(&made).into()
    }
}

impl Sealed {
    /// As it is stored: the id of the key, then what is sealed.
    pub fn from_bytes(bytes: Vec<u8>) -> Self {
        Self(bytes)
    }

    /// What stands in the place of a secret where none may be.
    pub(crate) fn masked() -> Self {
        Self(Vec::new())
    }

    /// As it is stored.
    pub fn bytes(&self) -> &[u8] {
        &self.0
    }

    /// The key that opens it; none where it is too short to be anything.
    pub fn key(&self) -> Option<KeyId> {
        self.0.first_chunk().map(|id| KeyId(*id))
    }
}

impl fmt::Debug for Sealed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Sealed(..)")
    }
}

impl TryFrom<String> for Sealed {
    type Error = base64::DecodeError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        STANDARD.decode(text).map(Self)
    }
}

impl From<Sealed> for String {
    fn from(sealed: Sealed) -> Self {
        STANDARD.encode(sealed.0)
    }
}

impl KeyId {
    pub(crate) fn from_bytes(bytes: [u8; 8]) -> Self {
        Self(bytes)
    }

    pub(crate) fn bytes(self) -> [u8; 8] {
        self.0
    }
}

impl fmt::Display for KeyId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&hex(&self.0))
    }
}

impl fmt::Debug for KeyId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl TryFrom<String> for KeyId {
    type Error = &'static str;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        let number = u64::from_str_radix(&text, 16).ok().filter(|_| text.len() == 16);
        number.map(|number| Self(number.to_be_bytes())).ok_or("the id of a key has 16 hexadecimal digits")
    }
}

impl From<KeyId> for String {
    fn from(id: KeyId) -> Self {
        id.to_string()
    }
}

/// Opens secrets under one key and seals them under another.
pub(crate) fn seal_anew_with(
    from: &SealingKey,
    to: &SealingKey,
) -> impl Fn(&str, &mut Sealed) -> Result<(), RecordsError> {
    move |context, sealed| {
        *sealed = to.seal(context, from.open(context, sealed)?.expose());
        Ok(())
    }
}

/// Bytes from the system's generator, without which nothing may be sealed.
pub(crate) fn random<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).expect("the system gives random bytes");
    bytes
}

pub(crate) fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
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

fn sync_folder_of(path: &Path) -> io::Result<()> {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
    File::open(folder.unwrap_or(Path::new(".")))?.sync_all()
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
