//! Equipment, as it is kept.

use std::net::IpAddr;

use regnant_base::{Network, Secret};
use regnant_decision::{NasIdentity, NasKind};
use regnant_policy::Value;
use serde::{Deserialize, Serialize};

use crate::error::RecordsError;
use crate::rows::sealed_as::{former_secret_context, secret_context};
use crate::sealing::{Sealed, SealingKey};

/// A NAS.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NasRow {
    /// Its name.
    pub name: String,
    /// Its addresses and blocks, one at least.
    #[serde(alias = "network", with = "networks_as_text")]
    pub networks: Vec<Network>,
    /// What it is.
    pub kind: NasKind,
    /// Where it stands.
    pub site: String,
    /// Words that policies and people find it by.
    pub tags: Vec<String>,
    /// What people should know of it.
    pub note: String,
    /// The name of its dialect.
    pub dialect: String,
    /// What it and this service know each other by in RADIUS.
    #[serde(flatten)]
    pub radius: RadiusRow,
}

/// What a NAS and this service know each other by in RADIUS.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RadiusRow {
    /// The secret that both share.
    pub secret: Sealed,
    /// The one before, while it still counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub former_secret: Option<FormerSecretRow>,
    /// Whether its requests must carry Message-Authenticator.
    pub require_message_authenticator: bool,
    /// Whether replies to logins of administrators carry the Class by which reports find
    /// their decision too.
    pub class_at_login: bool,
}

/// A secret that was changed, and counts beside the new one for a while.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FormerSecretRow {
    /// What it is.
    pub secret: Sealed,
    /// When another was set, in milliseconds since 1970.
    pub since: i64,
    /// Until when it counts, unless the NAS uses the new one before.
    pub until: i64,
}

impl NasRow {
    /// Its address, where it has one alone.
    pub fn single_address(&self) -> Option<IpAddr> {
        match self.networks[..] {
            [network] => network.single(),
            _ => None,
        }
    }

    /// Who it is.
    pub fn identity(&self) -> NasIdentity {
        NasIdentity {
            name: self.name.clone(),
            kind: self.kind,
            site: self.site.clone(),
            dialect: self.dialect.clone(),
            tags: self.tags.iter().cloned().map(Value::owned).collect(),
        }
    }

    /// The secret shared with it.
    pub fn shared_secret(&self, key: &SealingKey) -> Result<Secret, RecordsError> {
        key.open(&secret_context(&self.name), &self.radius.secret)
    }

    /// The secret that was shared with it before, while it still counts.
    pub fn former_secret(&self, key: &SealingKey) -> Result<Option<Secret>, RecordsError> {
        let former = self.radius.former_secret.as_ref();
        former.map(|former| key.open(&former_secret_context(&self.name), &former.secret)).transpose()
    }

    /// The same NAS with another secret. The one that it has counts too until then, in
    /// milliseconds since 1970; or the one before, where it still has that.
    pub fn with_secret(
        &self,
        secret: &Secret,
        (now, until): (i64, i64),
        has_former: bool,
        key: &SealingKey,
    ) -> Result<Self, RecordsError> {
        let had = match (has_former, self.former_secret(key)?) {
            (true, Some(former)) => former,
            _ => self.shared_secret(key)?,
        };
        let sealed = key.seal(&former_secret_context(&self.name), had.expose());
        let former_secret = (now < until).then_some(FormerSecretRow { secret: sealed, since: now, until });
        let secret = key.seal(&secret_context(&self.name), secret.expose());
        let radius = RadiusRow { secret, former_secret, ..self.radius.clone() };
        Ok(Self { radius, ..self.clone() })
    }
}

/// Addresses and blocks as texts.
mod networks_as_text {
    use regnant_base::Network;
    use serde::de::Error;
    use serde::{Deserialize, Deserializer, Serializer};

    pub(super) fn serialize<S: Serializer>(networks: &[Network], serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq(networks.iter().map(ToString::to_string))
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<Network>, D::Error> {
        let texts = Vec::<String>::deserialize(deserializer)?;
        texts.iter().map(|text| text.parse().map_err(D::Error::custom)).collect()
    }
}
