use regnant_client::{ExchangeError, Reply};
use regnant_radius::Code;

use crate::filter::{Sent, passes};

/// What a NAS makes of a reply.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// Access, enforced like this.
    Accepted(Enforced),
    /// No access, perhaps with a text for the person.
    Refused(Option<String>),
    /// No answer: a NAS would ask its next server.
    NoAnswer,
}

/// What a NAS enforces for one session.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Enforced {
    /// The VLAN of the port.
    pub vlan: Option<String>,
    /// Names of filters or roles.
    pub filters: Vec<String>,
    /// The rules of the access list.
    pub rules: Vec<String>,
    /// Seconds until the session ends or is authenticated again.
    pub session: Option<u64>,
    /// Whether it is authenticated again rather than ended.
    pub again: bool,
    /// What service a login gets.
    pub service: Option<String>,
    /// Its privilege level.
    pub privilege: Option<u64>,
    /// The class that accounting repeats.
    pub class: Option<String>,
}

impl Outcome {
    /// Reads a reply as a NAS does, which makes of an Access-Accept what `enforce` says.
    pub(crate) fn of(
        reply: Result<Reply, ExchangeError>,
        enforce: impl FnOnce(&Reply) -> Result<Enforced, &'static str>,
    ) -> Self {
        match reply {
            // Equipment opens the port, and a supplicant that does not believe it, or
            // has other keys, gets no further.
            Ok(reply) if reply.code == Code::ACCESS_ACCEPT && reply.is_believed() => match enforce(&reply) {
                Ok(enforced) => Self::Accepted(enforced),
                Err(why) => Self::Refused(Some(why.into())),
            },
            Ok(reply) if reply.code == Code::ACCESS_ACCEPT => Self::Refused(Some("the supplicant disagrees".into())),
            Ok(reply) => Self::Refused(reply.first("Reply-Message").map(str::to_owned)),
            Err(_) => Self::NoAnswer,
        }
    }

    /// What is enforced, in a few words.
    pub fn describe(&self) -> String {
        match self {
            Self::Accepted(enforced) => enforced.describe(),
            Self::Refused(_) => "no access".into(),
            Self::NoAnswer => "no answer".into(),
        }
    }
}

impl Enforced {
    /// Whether a packet that the device sends would pass.
    pub fn passes(&self, sent: &Sent) -> bool {
        passes(&self.rules, sent)
    }

    pub(crate) fn read(reply: &Reply) -> Self {
        let number = |name| reply.first(name).and_then(|value| value.parse().ok());
        // RFC 3580 section 3.31: only with these two does the third name a VLAN.
        let is_vlan =
            reply.first("Tunnel-Type") == Some("VLAN") && reply.first("Tunnel-Medium-Type") == Some("IEEE-802");
        Self {
            vlan: reply.first("Tunnel-Private-Group-ID").filter(|_| is_vlan).map(str::to_owned),
            filters: reply.all("Filter-Id"),
            rules: reply.all("NAS-Filter-Rule"),
            session: number("Session-Timeout"),
            again: reply.first("Termination-Action") == Some("RADIUS-Request"),
            service: reply.first("Service-Type").map(str::to_owned),
            privilege: number("Management-Privilege-Level"),
            class: reply.first("Class").and_then(text),
        }
    }

    fn describe(&self) -> String {
        let mut said = Vec::new();
        said.extend(self.vlan.as_ref().map(|vlan| format!("VLAN {vlan}")));
        said.extend(self.filters.iter().cloned());
        if !self.rules.is_empty() {
            said.push(format!("{} filter rules", self.rules.len()));
        }
        said.extend(self.service.clone());
        said.extend(self.privilege.map(|level| format!("privilege {level}")));
        said.extend(self.class.as_ref().map(|class| format!("class {class}")));
        let action = if self.again { "again after" } else { "session" };
        said.extend(self.session.map(|seconds| format!("{action} {} h", seconds / 3_600)));
        if said.is_empty() { "access".into() } else { said.join(", ") }
    }
}

/// Class is bytes; ours hold text, which is shown in quotes.
fn text(shown: &str) -> Option<String> {
    Some(shown.strip_prefix('"')?.strip_suffix('"')?.to_owned())
}
