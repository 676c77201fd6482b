//! Secrets that replies carry, by the names that policies know them by.

use std::collections::HashMap;
use std::sync::Arc;

use regnant_base::Secret;
use regnant_radius::{AttributeList, Definition, Dictionary};

use crate::radius::accept::AcceptedRequest;

/// The secrets of the records, opened.
#[derive(Clone, Debug, Default)]
pub struct NamedSecrets(Arc<HashMap<String, Secret>>);

impl NamedSecrets {
    /// These; case does not count in their names.
    pub fn new(secrets: impl IntoIterator<Item = (String, Secret)>) -> Self {
        Self(Arc::new(secrets.into_iter().map(|(name, secret)| (name.to_lowercase(), secret)).collect()))
    }

    fn get(&self, name: &str) -> Option<&Secret> {
        self.0.get(&name.to_lowercase())
    }

    /// The attributes that carry these in the reply to a request, encoded; or why they cannot.
    /// `salts` are those of the reply's keys.
    pub(crate) fn attributes(
        &self,
        wanted: &[(Arc<Definition>, String)],
        accepted: &AcceptedRequest,
        dictionary: &Dictionary,
        salts: [u16; 2],
    ) -> Result<Vec<u8>, String> {
        let mut list = AttributeList::default();
        for ((definition, name), place) in wanted.iter().zip(0u16..) {
            let secret = self.get(name).ok_or_else(|| format!("there is no secret \"{name}\""))?.expose();
            let most = definition.most_secret();
            if secret.len() > most {
                return Err(format!("the secret \"{name}\" has more bytes than {} carries ({most})", definition.name));
            }
            let (packet, shared) = (accepted.packet(), accepted.secret());
            // Salts of one packet differ (RFC 2868 section 3.5). Those of the keys are less than
            // 256 apart, and these come after them; a packet has no room for so many that they
            // come round.
            let salt = salts[0].wrapping_add(256 + place);
            let hidden = definition.hide(secret, salt, packet.authenticator(), shared);
            list.add_encoded(definition, hidden.map_err(|error| error.to_string())?);
        }
        list.encode(dictionary).map_err(|error| error.to_string())
    }
}
