use regnant_eap::{PeerMethod, Secret, mschap};
use regnant_radius::{
    BuildError, Builder, Code, Dictionary, EncodeError, MsChapSent, PasswordError, SharedSecret, chap_response,
    hide_password, number,
};
use thiserror::Error;

use crate::exchange::Reply;

/// One request to be sent: for access, or a report on it.
#[derive(Clone, Debug)]
pub struct Ask {
    /// What proves the identity.
    pub credential: Credential,
    /// Further attributes as names and values; they replace those that the
    /// credential brings along.
    pub attributes: Vec<(String, String)>,
}

/// What proves an identity.
#[derive(Clone, Debug)]
pub enum Credential {
    /// A device's MAC address, in the notation that the equipment uses.
    Mac(String),
    /// Name and password (RFC 2865 section 5.2).
    Pap {
        /// The user's name.
        user: String,
        /// Their password.
        password: Secret,
    },
    /// Name and challenge (RFC 2865 section 5.3).
    Chap {
        /// The user's name.
        user: String,
        /// Their password.
        password: Secret,
    },
    /// Name and the response to a challenge of MS-CHAP (RFC 2548 section 2).
    MsChap {
        /// The user's name.
        user: String,
        /// Their password.
        password: Secret,
        /// Whether it is version 2.
        is_version_2: bool,
    },
    /// Nothing: the equipment asks for itself.
    Nothing,
    /// None is needed: it is a report on access (Accounting-Request, RFC 2866), and repeats
    /// these Class attributes of the reply that gave it.
    Report(Vec<Vec<u8>>),
    /// A supplicant behind the equipment (IEEE 802.1X).
    Eap(Box<Supplicant>),
}

/// A supplicant: what it tells outside any tunnel, and how it proves itself.
#[derive(Clone, Debug)]
pub struct Supplicant {
    /// Who it is, for people who watch.
    pub title: String,
    /// The identity outside any tunnel.
    pub outer: String,
    /// The method.
    pub method: PeerMethod,
    /// The longest EAP packet that it sends.
    pub room: usize,
}

impl Supplicant {
    /// A supplicant of this name and method.
    pub fn new(title: &str, outer: &str, method: PeerMethod) -> Self {
        Self { title: title.into(), outer: outer.into(), method, room: 1_300 }
    }
}

impl Ask {
    /// MAC bypass as switches send it: name and password are the address.
    pub fn mac(address: &str, port: u32) -> Self {
        let attributes = vec![("NAS-Port".into(), port.to_string())];
        Self { credential: Credential::Mac(address.into()), attributes }
    }

    /// A password login.
    pub fn pap(user: &str, password: &str) -> Self {
        let credential = Credential::Pap { user: user.into(), password: Secret::new(password) };
        Self { credential, attributes: Vec::new() }
    }

    /// What equipment asks for itself, with the attributes that are added.
    pub fn for_itself() -> Self {
        Self { credential: Credential::Nothing, attributes: Vec::new() }
    }

    /// A report: `Start`, `Interim-Update`, `Stop`, `Accounting-On` or `Accounting-Off`. Where
    /// no Acct-Session-Id is added, every packet is of a session of its own.
    pub fn report(status: &str) -> Self {
        Self {
            credential: Credential::Report(Vec::new()),
            attributes: vec![("Acct-Status-Type".into(), status.into())],
        }
    }

    /// A report on the access that a reply to this request gave.
    pub fn report_on(&self, reply: &Reply, status: &str, session: &str) -> Self {
        let own = self.attributes.iter().map(|(name, value)| (name.as_str(), value.as_str()));
        let stated = |name: &str| own.clone().any(|(known, _)| known.eq_ignore_ascii_case(name));
        let mut all: Vec<_> =
            self.defaults().into_iter().filter(|(name, _)| !stated(name)).chain(own.clone()).collect();
        all.retain(|(name, _)| REPORTED.iter().any(|reported| reported.eq_ignore_ascii_case(name)));
        // RFC 2865 section 5.1: the name that the reply tells is the session's.
        if let Some(name) = reply.first("User-Name") {
            all.retain(|(known, _)| !known.eq_ignore_ascii_case("User-Name"));
            all.push(("User-Name", name));
        }
        let mut report = Self::report(status).with("Acct-Session-Id", session);
        report.credential = Credential::Report(reply.classes.clone());
        report.attributes.extend(all.into_iter().map(|(name, value)| (name.to_owned(), value.to_owned())));
        report
    }

    /// 802.1X from a device of this MAC address.
    pub fn eap(supplicant: Supplicant, address: &str) -> Self {
        let attributes = vec![("Calling-Station-Id".into(), address.into())];
        Self { credential: Credential::Eap(Box::new(supplicant)), attributes }
    }

    /// The same with one more attribute.
    pub fn with(mut self, name: &str, value: &str) -> Self {
        self.attributes.push((name.into(), value.into()));
        self
    }

    /// Who or what asks.
    pub fn who(&self) -> &str {
        match &self.credential {
            Credential::Mac(who)
            | Credential::Pap { user: who, .. }
            | Credential::Chap { user: who, .. }
            | Credential::MsChap { user: who, .. } => who,
            Credential::Nothing | Credential::Report(_) => "equipment",
            Credential::Eap(supplicant) => &supplicant.title,
        }
    }

    /// What the credential brings along unless it is stated otherwise.
    fn defaults(&self) -> Vec<(&str, &str)> {
        match &self.credential {
            Credential::Mac(address) => vec![
                ("User-Name", address),
                ("Calling-Station-Id", address),
                ("Service-Type", "Call-Check"),
                ("NAS-Port-Type", "Ethernet"),
            ],
            Credential::Pap { user, .. } | Credential::Chap { user, .. } | Credential::MsChap { user, .. } => {
                vec![("User-Name", user), ("NAS-Port-Type", "Virtual")]
            }
            Credential::Nothing | Credential::Report(_) => Vec::new(),
            Credential::Eap(supplicant) => {
                vec![("User-Name", &supplicant.outer), ("NAS-Port-Type", "Ethernet"), ("Framed-MTU", "1400")]
            }
        }
    }

    /// The packet; `authenticator` must be fresh and random. Without `signed` it
    /// carries no Message-Authenticator, as old equipment sends it.
    pub fn packet(
        &self,
        identifier: u8,
        authenticator: &[u8; 16],
        secret: &SharedSecret,
        signed: bool,
        dictionary: &Dictionary,
    ) -> Result<Vec<u8>, AskError> {
        let mut builder = self.begin(identifier, signed, dictionary)?;
        match &self.credential {
            Credential::Mac(address) => {
                let hidden = hide_password(address.as_bytes(), authenticator, secret)?;
                builder.attribute(number::USER_PASSWORD, &hidden)?;
            }
            Credential::Pap { password, .. } => {
                let hidden = hide_password(password.expose(), authenticator, secret)?;
                builder.attribute(number::USER_PASSWORD, &hidden)?;
            }
            Credential::Chap { password, .. } => {
                // The Request Authenticator is the challenge (RFC 2865 section 2.2).
                let response = chap_response(identifier, password.expose(), authenticator);
                builder.attribute(number::CHAP_PASSWORD, &[&[identifier][..], &response].concat())?;
            }
            Credential::MsChap { user, password, is_version_2 } => {
                add_ms_chap(&mut builder, identifier, authenticator, (user, password, *is_version_2))?;
            }
            Credential::Nothing => {}
            Credential::Report(classes) => {
                return self.report_packet(identifier, authenticator, secret, (classes, dictionary));
            }
            // EAP goes on packet by packet.
            Credential::Eap(_) => return Err(AskError::Conversation),
        }
        Ok(builder.request(authenticator, secret))
    }

    /// Its authenticator is made of the rest of it; the random one names the session where
    /// nothing else does.
    fn report_packet(
        &self,
        identifier: u8,
        random: &[u8; 16],
        secret: &SharedSecret,
        (classes, dictionary): (&[Vec<u8>], &Dictionary),
    ) -> Result<Vec<u8>, AskError> {
        let mut builder = Builder::unsigned(Code::ACCOUNTING_REQUEST, identifier);
        builder.encoded(
            &dictionary.encode(self.attributes.iter().map(|(name, value)| (name.as_str(), value.as_str())))?,
        )?;
        if !self.attributes.iter().any(|(name, _)| name.eq_ignore_ascii_case("Acct-Session-Id")) {
            let session: String = random[..8].iter().map(|byte| format!("{byte:02x}")).collect();
            builder.attribute(number::ACCT_SESSION_ID, session.as_bytes())?;
        }
        for class in classes {
            builder.attribute(number::CLASS, class)?;
        }
        Ok(builder.accounting_request(secret))
    }

    /// One packet of an EAP conversation, always signed (RFC 3579 section 3.1): the
    /// EAP packet, and the State of the challenge that it answers.
    pub fn conversation_packet(
        &self,
        identifier: u8,
        authenticator: &[u8; 16],
        secret: &SharedSecret,
        dictionary: &Dictionary,
        (packet, state): (&[u8], Option<&[u8]>),
    ) -> Result<Vec<u8>, AskError> {
        let mut builder = self.begin(identifier, true, dictionary)?;
        builder.eap_message(packet)?;
        if let Some(state) = state {
            builder.attribute(number::STATE, state)?;
        }
        Ok(builder.request(authenticator, secret))
    }

    fn begin(&self, identifier: u8, signed: bool, dictionary: &Dictionary) -> Result<Builder, AskError> {
        let start = if signed { Builder::new } else { Builder::unsigned };
        let mut builder = start(Code::ACCESS_REQUEST, identifier);
        let stated = |name: &str| self.attributes.iter().any(|(known, _)| known.eq_ignore_ascii_case(name));
        let defaults = self.defaults().into_iter().filter(|(name, _)| !stated(name));
        let own = self.attributes.iter().map(|(name, value)| (name.as_str(), value.as_str()));
        builder.encoded(&dictionary.encode(defaults.chain(own))?)?;
        Ok(builder)
    }
}

/// What reports repeat of a request for access.
const REPORTED: [&str; 8] = [
    "User-Name",
    "NAS-Port",
    "NAS-Port-Id",
    "NAS-Port-Type",
    "NAS-Identifier",
    "Service-Type",
    "Calling-Station-Id",
    "Called-Station-Id",
];

/// Adds the response of MS-CHAP. The Request Authenticator is fresh and random, and so are
/// the challenges that are made of it.
fn add_ms_chap(
    builder: &mut Builder,
    identifier: u8,
    authenticator: &[u8; 16],
    (user, password, is_version_2): (&str, &Secret, bool),
) -> Result<(), BuildError> {
    let hash = mschap::nt_password_hash(&String::from_utf8_lossy(password.expose()));
    let (challenge, peer_challenge) = (authenticator, std::array::from_fn(|place| !authenticator[15 - place]));
    let short: [u8; 8] = std::array::from_fn(|place| authenticator[place]);
    match is_version_2 {
        true => {
            let answered = mschap::challenge_hash(&peer_challenge, challenge, user);
            let response = &mschap::challenge_response(&answered, &hash);
            builder.ms_chap(&MsChapSent::Version2 { identifier, challenge, peer_challenge: &peer_challenge, response })
        }
        false => {
            let response = &mschap::challenge_response(&short, &hash);
            builder.ms_chap(&MsChapSent::Version1 { identifier, challenge: &short, response })
        }
    }
}

/// Why a request cannot be built.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum AskError {
    /// An attribute.
    #[error(transparent)]
    Attribute(#[from] EncodeError),
    /// The password.
    #[error(transparent)]
    Password(#[from] PasswordError),
    /// EAP is no single request.
    #[error("802.1X is a conversation, not one request")]
    Conversation,
    /// The packet as a whole.
    #[error(transparent)]
    Build(#[from] BuildError),
}
