//! What a domain controller says came of a call ([MS-ERREF] section 2.3.1).

use std::fmt;

/// A status; those that nobody here knows are kept as they are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NtStatus(pub u32);

macro_rules! statuses {
    ($($name:ident = $number:literal, $words:literal;)*) => {
        impl NtStatus {
            $(#[doc = $words] pub const $name: Self = Self($number);)*

            fn words(self) -> Option<&'static str> {
                match self {
                    $(Self::$name => Some($words),)*
                    _ => None,
                }
            }
        }
    };
}

statuses! {
    SUCCESS = 0x0000_0000, "it went well";
    ACCESS_DENIED = 0xC000_0022, "access is denied";
    NO_SUCH_USER = 0xC000_0064, "nobody has the name";
    WRONG_PASSWORD = 0xC000_006A, "the password is wrong";
    LOGON_FAILURE = 0xC000_006D, "name or password is wrong";
    ACCOUNT_RESTRICTION = 0xC000_006E, "the account may not be used so";
    INVALID_LOGON_HOURS = 0xC000_006F, "the account may not be used at this hour";
    INVALID_WORKSTATION = 0xC000_0070, "the account may not be used from here";
    PASSWORD_EXPIRED = 0xC000_0071, "the password has expired";
    ACCOUNT_DISABLED = 0xC000_0072, "the account is disabled";
    NO_SUCH_DOMAIN = 0xC000_00DF, "there is no such domain";
    NO_TRUST_LSA_SECRET = 0xC000_018A, "the machine is not trusted";
    NO_TRUST_SAM_ACCOUNT = 0xC000_018B, "the domain has no such machine account";
    ACCOUNT_EXPIRED = 0xC000_0193, "the account has expired";
    WRONG_CREDENTIAL_HANDLE = 0xC000_0122, "the secure channel is not known";
    LOGON_TYPE_NOT_GRANTED = 0xC000_015B, "the account may not sign in this way";
    NOLOGON_WORKSTATION_TRUST_ACCOUNT = 0xC000_0199, "the account is that of a machine";
    PASSWORD_MUST_CHANGE = 0xC000_0224, "the password has to be changed";
    ACCOUNT_LOCKED_OUT = 0xC000_0234, "the account is locked for a while";
    NO_LOGON_SERVERS = 0xC000_005E, "no domain controller of the account is reached";
    DOWNGRADE_DETECTED = 0xC000_0388, "it offers less than AES";
    AUTHENTICATION_FIREWALL = 0xC000_0413, "the account may not be asked about from here";
}

impl fmt::Display for NtStatus {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.words() {
            Some(words) => f.write_str(words),
            None => write!(f, "status 0x{:08X}", self.0),
        }
    }
}
