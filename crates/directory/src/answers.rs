//! What a directory answers, in words.

use ldap3::{LdapError, LdapResult};
use regnant_decision::{NoAnswer, PasswordAnswer};
use thiserror::Error;

/// Why a directory did not answer, and what to do.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum Trouble {
    /// It is not reached.
    #[error("{server} is not reached: {why}")]
    NotReached {
        /// Which server.
        server: String,
        /// Why.
        why: String,
    },
    /// It does not prove who it is, or speaks no TLS.
    #[error("{server} does not prove who it is: {why}")]
    Tls {
        /// Which server.
        server: String,
        /// Why.
        why: String,
    },
    /// It does not let searches be bound.
    #[error("{server} does not let `{name}` search: {why}")]
    Bind {
        /// Which server.
        server: String,
        /// Whom searches are bound as.
        name: String,
        /// Why.
        why: String,
    },
    /// There is nothing where people should be.
    #[error("there is no entry `{0}` to search below")]
    NoBase(String),
    /// It sends elsewhere, where nobody follows.
    #[error("it refers to {0}, which is not followed: search below an entry that it holds itself")]
    Referral(String),
    /// It answered with an error.
    #[error("{server} refuses: {why}")]
    Refused {
        /// Which server.
        server: String,
        /// Why.
        why: String,
    },
    /// It cannot answer now, as another might.
    #[error("{server} cannot answer: {why}")]
    Unable {
        /// Which server.
        server: String,
        /// Why.
        why: String,
    },
    /// It answers what nobody understands.
    #[error("{0} answers what is no LDAP")]
    Nonsense(String),
    /// It did not answer in time.
    #[error("{server} gave no answer within {seconds} s")]
    Late {
        /// Which server.
        server: String,
        /// How long it was waited for.
        seconds: u64,
    },
    /// It failed a moment ago, and is not asked again so soon.
    #[error("no server of it answered a moment ago ({0})")]
    Down(String),
    /// Too many wait for it already.
    #[error("too many questions wait for it already")]
    Busy,
    /// A domain controller does not take the channel.
    #[error("the domain controller {server} checks nothing for us: {why}")]
    Channel {
        /// Which.
        server: String,
        /// Why.
        why: String,
    },
    /// Its answer was made by somebody else, or is an older one.
    #[error("the domain controller {0} answers under a seal that is not its own")]
    Forged(String),
    /// The DNS names no controller.
    #[error("the DNS names no controller of {domain}: {why}")]
    NoController {
        /// Of which domain.
        domain: String,
        /// Why.
        why: String,
    },
    /// It is no Active Directory, or none whose controllers are asked.
    #[error("it has no machine account whose password could be changed")]
    NoDomain,
    /// Two entries of one device.
    #[error("more than one entry has the address {0}")]
    TwoDevices(String),
    /// It gives fewer entries than there are.
    #[error("{0} gives fewer entries at once than there are")]
    Fewer(String),
    /// Nobody said how devices are found in it.
    #[error("nobody said how devices are found there")]
    NoDevices,
    /// More devices than are listed.
    #[error("it has more than {0} devices")]
    TooManyDevices(usize),
    /// Groups are missing that it could not tell.
    #[error("it could not tell all groups of {0}")]
    GroupsInPart(String),
    /// An account with more groups than anybody has.
    #[error("the account is in more than {0} groups")]
    TooManyGroups(usize),
}

impl From<Trouble> for NoAnswer {
    fn from(trouble: Trouble) -> Self {
        match trouble {
            Trouble::Busy => Self::NoRoom(trouble.to_string()),
            trouble => Self::Silent(trouble.to_string()),
        }
    }
}

impl Trouble {
    /// Whether another server of the directory may do better.
    pub(crate) fn is_the_servers(&self) -> bool {
        match self {
            Self::NotReached { .. }
            | Self::Tls { .. }
            | Self::Bind { .. }
            | Self::Nonsense(_)
            | Self::Unable { .. }
            | Self::Channel { .. }
            | Self::NoController { .. }
            | Self::Late { .. } => true,
            Self::NoBase(_)
            | Self::Referral(_)
            | Self::Refused { .. }
            | Self::Down(_)
            | Self::Busy
            | Self::NoDomain
            | Self::Forged(_)
            | Self::TwoDevices(_)
            | Self::Fewer(_)
            | Self::NoDevices
            | Self::TooManyDevices(_)
            | Self::GroupsInPart(_)
            | Self::TooManyGroups(_) => false,
        }
    }

    /// What to do about it.
    pub fn advice(&self) -> &'static str {
        match self {
            Self::NotReached { .. } => "See whether the directory runs, and whether address and port are right.",
            Self::Tls { .. } => {
                "Name the trust whose authority issued its certificate, and the host name that stands in it."
            }
            Self::Bind { .. } => {
                "Give the name and password of an account that may search, as the directory writes it."
            }
            Self::NoController { .. } => {
                "Name a DNS server of the domain, as dns://SERVER/DOMAIN, or the controllers themselves by their hosts."
            }
            Self::Forged(_) => "See who stands between here and the controller: what came was changed, or sent again.",
            Self::NoDomain => "Name the domain and the machine account first.",
            Self::TwoDevices(_) => "Narrow the base or the filter of devices: nobody knows which is meant.",
            Self::Fewer(_) => "Raise the limit of the directory for the account that searches.",
            Self::Channel { .. } => {
                "Give the domain's short name, the machine account and its password: the account that searches is that one."
            }
            Self::NoBase(_) => "Write the base as the directory does, such as dc=example,dc=org.",
            Self::Referral(_) => "Name the server that holds the entries itself.",
            Self::Refused { .. } => "See what the account that searches may read, and how the filter is written.",
            Self::GroupsInPart(_) => "See why a group of it cannot be read, or how deep groups are in groups.",
            Self::Unable { .. } => "See what keeps the directory busy, and which limits of time and of looking it has.",
            Self::Nonsense(_) => "See what listens there: it is no directory, or one behind something else.",
            Self::Late { .. } => "See why it is slow; a filter over an attribute without an index is.",
            Self::Down(_) => "See whether the directory runs; it is asked again every few seconds.",
            Self::Busy => "See why the directory is slow.",
            Self::NoDevices => "Say how devices are found: --device-filter, such as (objectClass=ieee802Device).",
            Self::TooManyDevices(_) => "Take them over in parts: narrow the base or the filter of devices.",
            Self::TooManyGroups(_) => "Narrow what counts as a group, by its base.",
        }
    }
}

/// What a search ended in that did not go well (RFC 4511 section 4.1.9).
pub(crate) fn ended(server: &str, base: &str, result: &LdapResult) -> Trouble {
    let server = server.to_owned();
    match result.rc {
        // An operation failed there, time or looking was over, it is busy, not ready, or does not know itself.
        1 | 3 | 11 | 51 | 52 | 80 => Trouble::Unable { server, why: words(result) },
        // Its own limit is lower than ours: what is missing might have decided.
        4 => Trouble::Fewer(server),
        10 => Trouble::Referral(result.refs.first().cloned().unwrap_or_default()),
        32 => Trouble::NoBase(base.to_owned()),
        _ => Trouble::Refused { server, why: words(result) },
    }
}

/// A library error, by what it means.
pub(crate) fn trouble(server: &str, error: &LdapError) -> Trouble {
    let server = server.to_owned();
    match error {
        LdapError::Io { source }
            if source.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>()).is_some() =>
        {
            Trouble::Tls { server, why: source.to_string() }
        }
        // So it calls what is none of its messages.
        LdapError::Io { source } if source.to_string() == "decoding error" => Trouble::Nonsense(server),
        LdapError::Io { source } => Trouble::NotReached { server, why: source.to_string() },
        LdapError::LdapResult { result } => Trouble::Refused { server, why: words(result) },
        LdapError::FilterParsing => Trouble::Refused { server, why: "the filter cannot be read".into() },
        LdapError::DecodingUTF8 => Trouble::Nonsense(server),
        LdapError::OpSend { .. } | LdapError::ResultRecv { .. } | LdapError::EndOfStream => {
            Trouble::NotReached { server, why: "the connection ended".into() }
        }
        other => Trouble::NotReached { server, why: other.to_string() },
    }
}

/// What came of a bind that proves a password.
pub(crate) fn proof(server: &str, result: &LdapResult) -> Result<PasswordAnswer, Trouble> {
    if let (0 | 49, Some(answer)) = (result.rc, policy_answer(result)) {
        return Ok(answer);
    }
    match (result.rc, sub_code(&result.text)) {
        (0, _) => Ok(PasswordAnswer::Right),
        (49, Some("530")) => Ok(PasswordAnswer::NotNow),
        (49, Some("531")) => Ok(PasswordAnswer::NotHere),
        (49, Some("532")) => Ok(PasswordAnswer::TooOld),
        (49, Some("533")) => Ok(PasswordAnswer::Disabled),
        (49, Some("534")) => Ok(PasswordAnswer::Restricted),
        (49, Some("701")) => Ok(PasswordAnswer::Expired),
        (49, Some("773")) => Ok(PasswordAnswer::MustChange),
        // So some directories say that there were too many wrong ones.
        (49, Some("775")) | (19, _) => Ok(PasswordAnswer::Locked),
        // So some directories say that an account is inactive.
        (53, _) => Ok(PasswordAnswer::Restricted),
        // An entry that cannot be bound as has no password, and one that is gone has none either.
        (49 | 48 | 32, _) => Ok(PasswordAnswer::Wrong),
        _ => Err(ended(server, "", result)),
    }
}

/// Asks a directory to say what its password policy makes of a bind (the draft on password policies for LDAP
/// directories, section 6.1).
pub(crate) const PASSWORD_POLICY: &str = "1.3.6.1.4.1.42.2.27.8.5.1";

/// What the policy says that keeps a password from counting (section 6.2).
fn policy_answer(result: &LdapResult) -> Option<PasswordAnswer> {
    let control = result.ctrls.iter().find(|control| control.1.ctype == PASSWORD_POLICY)?;
    match (policy_error(control.1.val.as_deref()?)?, result.rc) {
        (0, _) => Some(PasswordAnswer::TooOld),
        (1, _) => Some(PasswordAnswer::Locked),
        (2, 0) => Some(PasswordAnswer::MustChange),
        _ => None,
    }
}

/// The error of a PasswordPolicyResponseValue: a sequence of a warning and an error, either of which may be
/// missing. All of it is short, so that every length is one byte.
fn policy_error(value: &[u8]) -> Option<u8> {
    let (&[0x30, length], mut rest) = value.split_first_chunk()? else { return None };
    rest = rest.get(..usize::from(length))?;
    while let Some((&[tag, length], after)) = rest.split_first_chunk() {
        let (contents, next) = after.split_at_checked(usize::from(length))?;
        match (tag, contents) {
            (0x81, [error]) => return Some(*error),
            _ => rest = next,
        }
    }
    None
}

/// The reason that Active Directory writes into a text: `..., data 52e, v4563`.
fn sub_code(text: &str) -> Option<&str> {
    let rest = text.split_once("data ")?.1;
    let end = rest.find(|c: char| !c.is_ascii_hexdigit()).unwrap_or(rest.len());
    Some(&rest[..end]).filter(|code| !code.is_empty())
}

/// A result code (RFC 4511 section 4.1.9) in words, with what the directory adds.
pub(crate) fn words(result: &LdapResult) -> String {
    let code = match result.rc {
        1 => "an operation came at a wrong time",
        2 => "it understood no word",
        3 => "it took too long for it",
        4 => "it found more than it gives",
        8 => "it wants stronger proof",
        10 => "it refers elsewhere",
        11 => "it found more than it may give",
        13 => "it wants TLS first",
        32 => "there is no such entry",
        34 => "that is no name of an entry",
        48 => "nobody can be bound so",
        49 => match sub_code(&result.text) {
            Some("525") => "there is no such account",
            Some("530" | "531") => "the account may not be used now, or from here",
            Some("532") => "the password has expired",
            Some("533") => "the account is disabled",
            Some("701") => "the account has expired",
            Some("773") => "the password has to be changed first",
            Some("775") => "the account is locked",
            _ => "name or password is wrong",
        },
        50 => "it does not allow that",
        51 => "it is busy",
        52 => "it is not ready",
        80 => "something went wrong there",
        53 => "it does not want to",
        _ => "result",
    };
    let text: String = result.text.chars().filter(|c| !c.is_control()).take(160).collect();
    match text.trim() {
        "" => format!("{code} ({})", result.rc),
        text => format!("{code} ({}: {text})", result.rc),
    }
}

#[cfg(test)]
mod tests {
    use ldap3::controls::{Control, RawControl};
    use proptest::prelude::*;

    use super::*;

    fn result(rc: u32, text: &str) -> LdapResult {
        LdapResult { rc, matched: String::new(), text: text.into(), refs: Vec::new(), ctrls: Vec::new() }
    }

    #[test]
    fn sub_codes_tell_right_passwords_from_wrong_ones() {
        let told = |code: &str| {
            let text =
                format!("80090308: LdapErr: DSID-0C090447, comment: AcceptSecurityContext error, data {code}, v4563");
            proof("dc1", &result(49, &text)).unwrap()
        };
        for (code, answer) in [
            ("52e", PasswordAnswer::Wrong),
            ("525", PasswordAnswer::Wrong),
            ("533", PasswordAnswer::Disabled),
            ("530", PasswordAnswer::NotNow),
            ("531", PasswordAnswer::NotHere),
            ("532", PasswordAnswer::TooOld),
            ("701", PasswordAnswer::Expired),
            ("773", PasswordAnswer::MustChange),
            ("775", PasswordAnswer::Locked),
        ] {
            assert_eq!(told(code), answer, "{code}");
        }
        assert_eq!(proof("dc1", &result(49, "")).unwrap(), PasswordAnswer::Wrong);
        assert_eq!(proof("dc1", &result(0, "")).unwrap(), PasswordAnswer::Right);
        assert!(proof("dc1", &result(8, "")).unwrap_err().to_string().contains("stronger proof"));
        assert!(proof("dc1", &result(51, "")).is_err(), "busy is no wrong password");
    }

    #[test]
    fn what_a_password_policy_says_counts() {
        let told = |rc: u32, value: &[u8]| {
            let control = RawControl { ctype: PASSWORD_POLICY.into(), crit: false, val: Some(value.to_vec()) };
            proof("dir", &LdapResult { ctrls: vec![Control(None, control)], ..result(rc, "") }).unwrap()
        };
        assert_eq!(told(49, &[0x30, 3, 0x81, 1, 0]), PasswordAnswer::TooOld);
        assert_eq!(told(49, &[0x30, 3, 0x81, 1, 1]), PasswordAnswer::Locked);
        assert_eq!(told(0, &[0x30, 3, 0x81, 1, 2]), PasswordAnswer::MustChange);
        assert_eq!(told(0, &[0x30, 8, 0xa0, 3, 0x81, 1, 5, 0x81, 1, 2]), PasswordAnswer::MustChange);
        assert_eq!(told(0, &[0x30, 5, 0xa0, 3, 0x80, 1, 9]), PasswordAnswer::Right, "a warning");
        assert_eq!(told(49, &[0x30, 0]), PasswordAnswer::Wrong);
        for cut in [&[][..], &[0x30], &[0x30, 9, 0x81], &[0x30, 2, 0x81, 1], &[0x31, 3, 0x81, 1, 2]] {
            assert_eq!(told(0, cut), PasswordAnswer::Right, "{cut:?}");
        }
    }

    proptest! {
        #[test]
        fn whatever_a_policy_answers_is_an_error_or_none(value: Vec<u8>) {
            policy_error(&value);
        }

        #[test]
        fn whatever_a_directory_writes_is_told(rc: u32, text: String) {
            let said = words(&result(rc, &text));
            prop_assert!(said.len() < 1_000 && !said.contains('\n'));
            let right = matches!(proof("x", &result(rc, &text)), Ok(PasswordAnswer::Right));
            prop_assert_eq!(right, rc == 0);
        }
    }
}
