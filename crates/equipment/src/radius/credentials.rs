use regnant_radius::SharedSecret;

use crate::heard::Heard;

/// What a NAS and this service know each other by.
#[derive(Clone, Debug)]
pub struct Credentials {
    /// What they share.
    pub secret: SharedSecret,
    /// What they shared before, while it still counts.
    pub former: Option<FormerSecret>,
    /// Whether requests must carry Message-Authenticator. Without, a
    /// forged answer cannot be told (CVE-2024-3596); only for old equipment.
    pub require_message_authenticator: bool,
    /// Whether replies to logins of administrators carry the Class by which reports find
    /// their decision too; some makes read a role from it.
    pub class_at_login: bool,
}

/// A secret that was changed a while ago, on this side.
#[derive(Clone, Debug)]
pub struct FormerSecret {
    /// What it is.
    pub secret: SharedSecret,
    /// When another was set, in milliseconds since 1970.
    pub since: u64,
    /// Until when it counts too, unless the NAS uses the new one before.
    pub until: u64,
}

/// Under which secret a packet was made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Under {
    Present,
    Former,
}

impl Credentials {
    /// Those of a NAS that signs its requests.
    pub fn new(secret: SharedSecret) -> Self {
        Self { secret, former: None, require_message_authenticator: true, class_at_login: false }
    }

    /// The secret of a packet.
    pub(crate) fn secret_under(&self, under: Under) -> &SharedSecret {
        match (under, &self.former) {
            (Under::Former, Some(former)) => &former.secret,
            _ => &self.secret,
        }
    }

    /// Under which secret a packet was made that says so by a signature: `fits` checks it. The
    /// first that is made under the new one ends the time of the former, which `heard` notes.
    pub(crate) fn signed_under(&self, heard: &Heard, now: u64, fits: impl Fn(&SharedSecret) -> bool) -> Option<Under> {
        if fits(&self.secret) {
            if let Some(former) = &self.former {
                heard.switches(former.since);
            }
            return Some(Under::Present);
        }
        let former = self.former.as_ref().filter(|former| now < former.until && !heard.has_switched(former.since))?;
        fits(&former.secret).then_some(Under::Former)
    }

    /// Under which secret a packet counts that carries no signature: the former, until the NAS
    /// is heard to use the new one, or somebody says that it does.
    pub(crate) fn unsigned_under(&self, heard: &Heard) -> Under {
        match &self.former {
            Some(former) if !heard.has_switched(former.since) => Under::Former,
            _ => Under::Present,
        }
    }
}
