//! What stores said while somebody was proved.

use std::fmt;
use std::sync::Arc;

use regnant_base::printable;
use regnant_policy::{Event, IdentityKind};
use serde::{Deserialize, Serialize};

use crate::guesses::Held;

/// What came of one look-up.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LookUp {
    /// What was looked up.
    pub kind: IdentityKind,
    /// Who was asked.
    pub asked: Asked,
    /// The name, or the address.
    pub name: String,
    /// What came back.
    pub answer: LookUpAnswer,
    /// How guessing was slowed, where it was.
    pub held: Option<Held>,
}

/// Who was asked.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Asked {
    /// A store.
    Store(Arc<str>),
    /// None.
    NoStore,
    /// What a certificate says.
    Certificate,
    /// What an earlier conversation left.
    Session,
}

/// What made a credential right.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Right {
    /// It is the right one.
    Credential,
    /// A certificate that was accepted.
    Certificate,
    /// It was right earlier, and has not changed.
    Earlier,
}

/// What came back from a look-up.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum LookUpAnswer {
    /// Proved.
    Right(Right),
    /// The account is disabled.
    Disabled(Right),
    /// The account has expired.
    Expired(Right),
    /// The store has no such account.
    Unknown,
    /// The store did not answer.
    NoAnswer(String),
    /// Nobody was asked, since there was no room to.
    NotTried(String),
    /// Another password.
    WrongPassword,
    /// The password is another than when it was proved.
    PasswordChanged,
    /// There was none to check.
    NoCredential,
    /// What was sent is no password under this secret.
    Undecodable,
    /// The store cannot check a CHAP response.
    NoRecoverablePassword,
    /// The store cannot check an MS-CHAP response.
    NoNtHash,
    /// The store takes no new passwords.
    TakesNoNewPassword,
    /// A MAC address was sent as password.
    MacAsPassword,
    /// The device is listed.
    Listed,
    /// The device is listed and barred.
    Barred,
    /// The device is not listed.
    NotListed,
    /// There is no name to look up.
    EmptyName,
    /// The gate's `as` makes none.
    NoNameByAs,
    /// The gate looks nobody of this kind up.
    NoClause,
    /// The request has no User-Name.
    UserNameMissing,
    /// User-Name is empty.
    UserNameEmpty,
    /// User-Name is not UTF-8.
    UserNameNotUtf8,
    /// The certificate names nobody where the gate looks.
    CertificateNamesNobody,
    /// It was not proved when the session began.
    NotProvedBefore(Event),
    /// The store checks no passwords.
    ChecksNoPasswords,
    /// The device is listed, and its time is over.
    ListingExpired,
    /// The store has several accounts of the name.
    Several,
    /// The store lets nobody in under the account for a while.
    Locked,
    /// The password is right, and has to be changed before it counts.
    MustChange,
    /// The store has no such account, and one of this form of the name.
    UnknownNear(String),
    /// The store told facts, and proves nobody by that.
    Told,
    /// The store did not answer, and what it told so many seconds ago counts.
    ToldEarlier(u64),
    /// The certificate was accepted, and the account is taken as it was so many seconds ago, for
    /// the store did not answer.
    RightByEarlier(u64),
    /// The gate's `by` makes no name.
    NoNameBy,
    /// The store is not asked about names of this realm or domain.
    OtherRealm,
    /// The store does not have the certificate for the account.
    NotItsCertificate,
    /// There were too many wrong credentials for the name lately: this one was not looked at.
    HeldBack,
    /// The domain controllers know nothing of the account's domain.
    UnknownDomain,
    /// The domain controllers checked the response for another account of that name.
    OtherAccount,
    /// The name of a machine, where a user is meant.
    MachineAsUser,
    /// The password is right, and too old.
    TooOld,
    /// The account may not be used at this hour.
    NotNow,
    /// The account may not be used from here.
    NotHere,
    /// The account may not be used in this way.
    Restricted,
    /// The store told facts, and groups in part.
    ToldInPart,
    /// The store has the account, and could not say all groups that it is in.
    GroupsInPart,
    /// From which place of the certificate the name comes.
    NamedBy(String),
    /// The store tells facts of somebody who is proved, and nobody is.
    NobodyProved,
    /// The store tells facts of devices, and the request comes from none that it names.
    NoDevice,
    /// What the store would be asked by was not answered.
    KeyUnanswered,
}

impl LookUpAnswer {
    /// Whether the store that was asked left something out that it may know.
    pub fn is_missing(&self) -> bool {
        matches!(self, Self::NoAnswer(_) | Self::NotTried(_) | Self::ToldInPart | Self::GroupsInPart)
    }
}

impl LookUp {
    /// The same, safe to print: names and what stores say come from outside.
    pub fn printable(self) -> Self {
        let shown = |text: String| printable(&text).into_owned();
        let answer = match self.answer {
            LookUpAnswer::NoAnswer(why) => LookUpAnswer::NoAnswer(shown(why)),
            LookUpAnswer::NotTried(why) => LookUpAnswer::NotTried(shown(why)),
            LookUpAnswer::UnknownNear(name) => LookUpAnswer::UnknownNear(shown(name)),
            answer => answer,
        };
        Self { name: shown(self.name), answer, ..self }
    }
}

impl fmt::Display for LookUp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let kind = self.kind.word();
        match &self.answer {
            LookUpAnswer::NoNameByAs => write!(f, "the gate's `as` makes no name of it to look a {kind} up by"),
            LookUpAnswer::NoNameBy => write!(f, "the gate's `by` makes no name of it to look a {kind} up by"),
            LookUpAnswer::NoClause => write!(f, "the gate looks no {kind} up"),
            answer => write!(f, "{answer}"),
        }?;
        match self.held.and_then(Held::story) {
            Some(story) => write!(f, " ({story})"),
            None => Ok(()),
        }
    }
}

impl fmt::Display for Asked {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Store(name) => name,
            Self::NoStore => "no store",
            Self::Certificate => "the certificate",
            Self::Session => "the session",
        })
    }
}

impl fmt::Display for Right {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Credential => "right credential",
            Self::Certificate => "right certificate",
            Self::Earlier => "proved earlier",
        })
    }
}

impl fmt::Display for LookUpAnswer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let words = match self {
            Self::Right(right) => return right.fmt(f),
            Self::Disabled(right) => return write!(f, "{right}; the account is disabled"),
            Self::Expired(right) => return write!(f, "{right}; the account has expired"),
            Self::NoAnswer(why) => return write!(f, "no answer: {why}"),
            Self::NotTried(why) => return write!(f, "not tried: {why}"),
            Self::UnknownNear(name) => return write!(f, "unknown, but `{name}` is there"),
            Self::NotProvedBefore(event) => {
                return write!(f, "not proved when the session began ({})", event.word());
            }
            Self::ToldEarlier(age) => return write!(f, "no answer; what it told {age} s ago counts"),
            Self::RightByEarlier(age) => {
                return write!(f, "right certificate; no answer, and the account counts as it was {age} s ago");
            }
            Self::NamedBy(place) => return write!(f, "the name is its {place}"),
            Self::NobodyProved => "not asked: nobody of whom it tells facts is proved",
            Self::NoDevice => "not asked: the request names no device",
            Self::KeyUnanswered => "not asked: what it would be asked by was not answered",
            Self::Told => "it told what it knows",
            Self::NoNameBy => "the gate's `by` makes no name of it",
            Self::OtherRealm => "not asked: it answers for other realms and domains",
            Self::UnknownDomain => "the domain controllers know nothing of the account's domain",
            Self::OtherAccount => "the domain controllers checked it for another account of that name",
            Self::ToldInPart => "it told what it knows, and groups in part",
            Self::GroupsInPart => "it could not say all its groups: what hangs on others is unanswered",
            Self::TooOld => "right credential; the password is too old",
            Self::NotNow => "the account may not be used at this hour",
            Self::NotHere => "the account may not be used from here",
            Self::Restricted => "the account may not be used in this way",
            Self::MachineAsUser => "the name of a machine is never a user's",
            Self::HeldBack => "not looked at: too many wrong ones for this name",
            Self::NotItsCertificate => "it does not have this certificate for the account",
            Self::Unknown => "unknown",
            Self::WrongPassword => "wrong password",
            Self::PasswordChanged => "the password was changed since the earlier proof",
            Self::NoCredential => "no credential was sent",
            Self::Undecodable => "the password does not decode: the shared secret most likely differs",
            Self::NoRecoverablePassword => "no recoverable password, which CHAP and EAP-MD5 need",
            Self::NoNtHash => "no NT hash, which MS-CHAP needs",
            Self::ChecksNoPasswords => "this store checks no passwords",
            Self::TakesNoNewPassword => "this store takes no new passwords",
            Self::MacAsPassword => "a MAC address is never a password",
            Self::Listed => "listed",
            Self::Barred => "listed, barred",
            Self::NotListed => "not listed",
            Self::ListingExpired => "listed, and its time is over",
            Self::Several => "more than one account has the name",
            Self::Locked => "the account is locked for a while, whatever the password",
            Self::MustChange => "right credential; the password has to be changed before it counts",
            Self::EmptyName => "the name is empty",
            Self::NoNameByAs => "the gate's `as` makes no name of it",
            Self::NoClause => "the gate looks nobody like that up",
            Self::UserNameMissing => "the request has no User-Name",
            Self::UserNameEmpty => "User-Name is empty",
            Self::UserNameNotUtf8 => "User-Name is not UTF-8",
            Self::CertificateNamesNobody => "the certificate names nobody where the gate's trust looks for a name",
        };
        f.write_str(words)
    }
}
