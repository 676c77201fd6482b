//! People and machines as records: what of a password is kept, and what of one that is there
//! stays.

use regnant_base::{Mac, Secret, SecretText};
use regnant_eap::mschap::nt_password_hash;

use crate::error::RecordsError;
use crate::inventory::{InventoryError, MachineEntry, PersonEntry, expiry, fit_texts, named, without_repeats};
use crate::names::RecordName;
use crate::password::{fit_hash, hash_password};
use crate::password_rules::fit_password;
use crate::rows::{MachineRow, PersonRow, nt_hash_context, password_context, recoverable_context};
use crate::sealing::{Sealed, SealingKey, hex};

impl PersonEntry {
    /// Which record it is about.
    pub fn record_name(&self) -> RecordName {
        RecordName::Person { store: self.store.clone(), name: self.name.clone() }
    }

    /// The record of them, with the password of the one whose place it takes where none is
    /// given. Hashing a password takes tens of milliseconds.
    pub fn row(self, key: &SealingKey, before: Option<&PersonRow>) -> Result<PersonRow, InventoryError> {
        named("person", &self.name)?;
        let wrong = |what: &str| InventoryError(format!("person `{}`: {what}", self.name));
        if self.name.parse::<Mac>().is_ok() {
            return Err(wrong("a MAC address is never a user name"));
        }
        if is_machine_name(&self.name) {
            return Err(wrong("a name that begins with host/ or ends with $ is a machine's: add it as [[machine]]"));
        }
        if let Some(password) = &self.password {
            fit_password(password, &self.name).map_err(|weak| wrong(&weak.to_string()))?;
        }
        fit_texts(&self.groups, &[&self.note]).map_err(|why| wrong(&why))?;
        let (store, name) = (&self.store, &self.name);
        let (hash, nt_hash) = (password_context("person", store, name), nt_hash_context("person", store, name));
        let recoverable = recoverable_context(store, name);
        let kept = before.map(|row| Kept {
            key,
            hash: Some((&row.password_hash, password_context("person", &row.store, &row.name))),
            nt_hash: row.nt_hash.as_ref().map(|sealed| (sealed, nt_hash_context("person", &row.store, &row.name))),
            recoverable: row.recoverable.as_ref().map(|sealed| (sealed, recoverable_context(&row.store, &row.name))),
        });
        let password = self.password.as_ref();
        let brought = Brought::read(self.password_hash.as_ref(), self.nt_hash.as_ref()).map_err(wrong)?;
        if self.recoverable_password && password.is_none() && brought.hash.is_some() {
            return Err(wrong("a recoverable password comes as `password`, and not as its hash"));
        }
        let password_hash = match (password, brought.hash, &kept) {
            (Some(password), ..) => sealed_hash(key, &hash, password),
            (None, Some(brought), _) => key.seal(&hash, brought.as_bytes()),
            (None, None, Some(kept)) => {
                kept.hash(&hash).map_err(|why| wrong(&why))?.ok_or_else(|| wrong("it has no password"))?
            }
            (None, None, None) => return Err(wrong("`password` is missing")),
        };
        let recoverable = match (self.recoverable_password, password, &kept) {
            (false, ..) => None,
            (true, Some(password), _) => Some(key.seal(&recoverable, password.expose().as_bytes())),
            (true, None, kept) => Some(
                kept.as_ref()
                    .and_then(|kept| kept.recoverable(&recoverable).transpose())
                    .unwrap_or_else(|| Err("give the password anew, so that it can be kept recoverable".into()))
                    .map_err(|why| wrong(&why))?,
            ),
        };
        let nt_hash =
            brought.nt_hash_of(self.mschap, password, kept.as_ref(), (key, &nt_hash)).map_err(|why| wrong(&why))?;
        if self.engineers_only && self.ordinary {
            return Err(wrong("engineers alone set the password, or the person is ordinary; not both"));
        }
        Ok(PersonRow {
            password_hash,
            recoverable,
            nt_hash,
            expires: expiry(self.expires.as_ref(), &format!("person `{name}`"))?,
            store: self.store,
            name: self.name,
            groups: without_repeats(self.groups),
            disabled: self.disabled,
            engineers_only: self.engineers_only,
            ordinary: self.ordinary,
            note: self.note,
        })
    }
}

impl MachineEntry {
    /// Which record it is about.
    pub fn record_name(&self) -> RecordName {
        RecordName::Machine { store: self.store.clone(), name: self.name.clone() }
    }

    /// The record of it, with the password of the one whose place it takes where none is
    /// given.
    pub fn row(self, key: &SealingKey, before: Option<&MachineRow>) -> Result<MachineRow, InventoryError> {
        named("machine", &self.name)?;
        let wrong = |what: &str| InventoryError(format!("machine `{}`: {what}", self.name));
        if is_machine_name(&self.name) {
            return Err(wrong("write the name without host/ before it or $ after it"));
        }
        let has_password = before.is_some_and(|row| row.password_hash.is_some());
        if let Some(password) = &self.password {
            fit_password(password, &self.name).map_err(|weak| wrong(&weak.to_string()))?;
        } else if self.mschap && !has_password && self.password_hash.is_none() {
            return Err(wrong("MS-CHAP needs a password"));
        }
        fit_texts(&self.groups, &[&self.note]).map_err(|why| wrong(&why))?;
        let (store, name) = (&self.store, &self.name);
        let (hash, nt_hash) = (password_context("machine", store, name), nt_hash_context("machine", store, name));
        let kept = before.map(|row| Kept {
            key,
            hash: row.password_hash.as_ref().map(|sealed| (sealed, password_context("machine", &row.store, &row.name))),
            nt_hash: row.nt_hash.as_ref().map(|sealed| (sealed, nt_hash_context("machine", &row.store, &row.name))),
            recoverable: None,
        });
        let password = self.password.as_ref();
        let brought = Brought::read(self.password_hash.as_ref(), self.nt_hash.as_ref()).map_err(wrong)?;
        let password_hash = match (password, brought.hash, &kept) {
            (Some(password), ..) => Some(sealed_hash(key, &hash, password)),
            (None, Some(brought), _) => Some(key.seal(&hash, brought.as_bytes())),
            (None, None, Some(kept)) => kept.hash(&hash).map_err(|why| wrong(&why))?,
            (None, None, None) => None,
        };
        let nt_hash =
            brought.nt_hash_of(self.mschap, password, kept.as_ref(), (key, &nt_hash)).map_err(|why| wrong(&why))?;
        Ok(MachineRow {
            password_hash,
            nt_hash,
            expires: expiry(self.expires.as_ref(), &format!("machine `{name}`"))?,
            store: self.store,
            name: self.name,
            groups: without_repeats(self.groups),
            disabled: self.disabled,
            note: self.note,
        })
    }
}

/// What is kept of a password, opened, as an inventory says it.
#[derive(Clone, Debug, Default)]
pub struct KeptPassword {
    /// The password itself, where it is recoverable; then nothing else is needed.
    pub password: Option<SecretText>,
    /// Its Argon2id hash in PHC form.
    pub password_hash: Option<SecretText>,
    /// Its NT hash, in 32 hexadecimal digits.
    pub nt_hash: Option<SecretText>,
}

impl KeptPassword {
    /// What is kept of a person's password.
    pub fn of_person(row: &PersonRow, key: &SealingKey) -> Result<Self, RecordsError> {
        let (store, name) = (&row.store, &row.name);
        if let Some(sealed) = &row.recoverable {
            let password = Some(text_of(&key.open(&recoverable_context(store, name), sealed)?));
            return Ok(Self { password, ..Self::default() });
        }
        let hash = key.open(&password_context("person", store, name), &row.password_hash)?;
        let open = |sealed| key.open(&nt_hash_context("person", store, name), sealed);
        let nt_hash = row.nt_hash.as_ref().map(open).transpose()?;
        Ok(Self { password: None, password_hash: Some(text_of(&hash)), nt_hash: nt_hash.as_ref().map(digits_of) })
    }

    /// What is kept of a machine's password.
    pub fn of_machine(row: &MachineRow, key: &SealingKey) -> Result<Self, RecordsError> {
        let (store, name) = (&row.store, &row.name);
        let open = |sealed| key.open(&password_context("machine", store, name), sealed);
        let hash = row.password_hash.as_ref().map(open).transpose()?;
        let open = |sealed| key.open(&nt_hash_context("machine", store, name), sealed);
        let nt_hash = row.nt_hash.as_ref().map(open).transpose()?;
        let password_hash = hash.as_ref().map(text_of);
        Ok(Self { password: None, password_hash, nt_hash: nt_hash.as_ref().map(digits_of) })
    }
}

fn text_of(secret: &Secret) -> SecretText {
    String::from_utf8_lossy(secret.expose()).into_owned().into()
}

fn digits_of(secret: &Secret) -> SecretText {
    hex(secret.expose()).into()
}

/// What an account that is changed keeps of its password, each with what it was sealed as.
struct Kept<'k> {
    key: &'k SealingKey,
    hash: Option<(&'k Sealed, String)>,
    nt_hash: Option<(&'k Sealed, String)>,
    recoverable: Option<(&'k Sealed, String)>,
}

impl Kept<'_> {
    fn hash(&self, context: &str) -> Result<Option<Sealed>, String> {
        self.under(self.hash.as_ref(), context)
    }

    fn nt_hash(&self, context: &str) -> Result<Option<Sealed>, String> {
        self.under(self.nt_hash.as_ref(), context)
    }

    fn recoverable(&self, context: &str) -> Result<Option<Sealed>, String> {
        self.under(self.recoverable.as_ref(), context)
    }

    /// What is sealed says whose it is: under another name it is sealed anew.
    fn under(&self, kept: Option<&(&Sealed, String)>, context: &str) -> Result<Option<Sealed>, String> {
        match kept {
            None => Ok(None),
            Some((sealed, was)) if was == context => Ok(Some((*sealed).clone())),
            Some((sealed, was)) => {
                let opened = self.key.open(was, sealed).map_err(|error| error.to_string())?;
                Ok(Some(self.key.seal(context, opened.expose())))
            }
        }
    }
}

/// What another installation kept of a password.
struct Brought<'b> {
    hash: Option<&'b str>,
    nt_hash: Option<[u8; 16]>,
}

impl<'b> Brought<'b> {
    fn read(hash: Option<&'b SecretText>, nt_hash: Option<&SecretText>) -> Result<Self, &'static str> {
        let hash = hash.map(SecretText::expose);
        hash.map_or(Ok(()), fit_hash)?;
        let digits = |text: &SecretText| {
            let text = text.expose();
            let byte = |place: usize| u8::from_str_radix(text.get(2 * place..2 * place + 2)?, 16).ok();
            let bytes: Option<Vec<_>> = (0..16).map(byte).collect();
            let bytes = bytes.filter(|_| text.len() == 32).and_then(|bytes| bytes.try_into().ok());
            bytes.ok_or("`nt-hash` is no NT hash: it has 32 hexadecimal digits")
        };
        Ok(Self { hash, nt_hash: nt_hash.map(digits).transpose()? })
    }

    fn nt_hash_of(
        &self,
        mschap: bool,
        password: Option<&SecretText>,
        kept: Option<&Kept<'_>>,
        (key, context): (&SealingKey, &str),
    ) -> Result<Option<Sealed>, String> {
        match (mschap, password, self.nt_hash) {
            (false, ..) => Ok(None),
            (true, Some(password), _) => Ok(Some(sealed_nt_hash(key, context, password))),
            (true, None, Some(brought)) => Ok(Some(key.seal(context, &brought))),
            // The one that is kept is of another password.
            (true, None, None) if self.hash.is_some() => Err("`nt-hash` is missing, which MS-CHAP needs".into()),
            (true, None, None) => match kept.map(|kept| kept.nt_hash(context)).transpose()?.flatten() {
                Some(sealed) => Ok(Some(sealed)),
                None => Err("give the password anew, so that MS-CHAP can prove it".into()),
            },
        }
    }
}

/// A name by which a machine goes where people's names go (as equipment and
/// supplicants have it): it begins with `host/` or ends with `$`.
fn is_machine_name(name: &str) -> bool {
    name.to_lowercase().starts_with("host/") || name.ends_with('$')
}

fn sealed_hash(key: &SealingKey, context: &str, password: &SecretText) -> Sealed {
    key.seal(context, hash_password(password.expose().as_bytes()).as_bytes())
}

fn sealed_nt_hash(key: &SealingKey, context: &str, password: &SecretText) -> Sealed {
    key.seal(context, &nt_password_hash(password.expose()))
}
