/// What access consists of, in neutral form.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Grant {
    /// Its name.
    pub name: String,
    /// What it says, inherited statements included.
    pub statements: Vec<Statement>,
}

/// One statement of a grant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Statement {
    /// The VLAN that the port joins.
    Vlan(Vlan),
    /// A role that the NAS knows.
    Role(String),
    /// An access list of the policy.
    Acl(String),
    /// A filter that is configured on the NAS.
    Filter(String),
    /// Seconds until the session ends.
    Session(u32),
    /// Seconds until the session is authenticated again.
    Reauthenticate(u32),
    /// Seconds without traffic until the session ends.
    Idle(u32),
    /// What service a login gets.
    Service(Service),
    /// A management privilege level (RFC 5607 section 6.4).
    Privilege(u32),
    /// A class that the NAS repeats in accounting (RFC 2865 section 5.25).
    Class(String),
    /// A text for the person.
    Message(String),
}

/// A VLAN by number or name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Vlan {
    /// 1 to 4094 (IEEE 802.1Q).
    Number(u16),
    /// A name that the NAS knows.
    Name(String),
}

/// The services a grant may name (RFC 2865 section 5.6).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Service {
    /// Full administration.
    Administrative,
    /// A prompt with few rights.
    NasPrompt,
    /// A login.
    Login,
    /// A network connection.
    Framed,
}

impl Service {
    pub(crate) const ALL: [(&'static str, Self); 4] = [
        ("administrative", Self::Administrative),
        ("nas-prompt", Self::NasPrompt),
        ("login", Self::Login),
        ("framed", Self::Framed),
    ];
}

impl Statement {
    /// The keyword in Writ.
    pub fn keyword(&self) -> &'static str {
        match self {
            Self::Vlan(_) => "vlan",
            Self::Role(_) => "role",
            Self::Acl(_) => "acl",
            Self::Filter(_) => "filter",
            Self::Session(_) => "session",
            Self::Reauthenticate(_) => "reauthenticate",
            Self::Idle(_) => "idle",
            Self::Service(_) => "service",
            Self::Privilege(_) => "privilege",
            Self::Class(_) => "class",
            Self::Message(_) => "message",
        }
    }

    /// Which statements exclude one another: those with the same name here.
    pub(crate) fn slot(&self) -> &'static str {
        match self {
            // A session either ends or is authenticated again.
            Self::Reauthenticate(_) => "session",
            other => other.keyword(),
        }
    }

    /// Whether several may stand together.
    pub(crate) fn repeats(&self) -> bool {
        matches!(self, Self::Class(_) | Self::Message(_))
    }

    /// The value as text, as dialects and people read it.
    pub fn value(&self) -> String {
        match self {
            Self::Vlan(Vlan::Number(number)) => number.to_string(),
            Self::Vlan(Vlan::Name(text))
            | Self::Role(text)
            | Self::Acl(text)
            | Self::Filter(text)
            | Self::Class(text)
            | Self::Message(text) => text.clone(),
            Self::Session(number) | Self::Reauthenticate(number) | Self::Idle(number) | Self::Privilege(number) => {
                number.to_string()
            }
            Self::Service(service) => {
                Service::ALL.iter().find(|(_, known)| known == service).map_or("", |(name, _)| name).to_owned()
            }
        }
    }
}
