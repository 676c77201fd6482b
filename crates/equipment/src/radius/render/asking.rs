//! How equipment of a make asks: which of its requests are for what.

use std::sync::Arc;

use regnant_base::{Item, Section};
use regnant_decision::Purpose;
use regnant_radius::{Attributes, Definition, Dictionary};

use crate::radius::render::template::known_attribute;

/// How a MAC bypass of a make may come: by which credential its name is repeated.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Bypass {
    /// As User-Password.
    Pap,
    /// As CHAP-Password.
    Chap,
    /// By neither: Service-Type Call-Check says it (RFC 2865 section 5.6).
    CallCheck,
    /// By EAP-MD5, in which the equipment itself is the peer.
    EapMd5,
}

impl Bypass {
    /// Each with its word.
    pub(crate) const ALL: [(&str, Self); 4] =
        [("pap", Self::Pap), ("chap", Self::Chap), ("call-check", Self::CallCheck), ("eap-md5", Self::EapMd5)];
    /// Those that count where nothing is said: anybody may speak EAP with a MAC address
    /// for a name, so that must be said.
    pub(crate) const USUAL: [Self; 3] = [Self::Pap, Self::Chap, Self::CallCheck];
}

/// Requests of this look are for this.
#[derive(Clone, Debug)]
pub(crate) struct Look {
    purpose: Purpose,
    /// Attributes that are all there, each with its value; any value where none is said.
    with: Vec<(Arc<Definition>, Option<Vec<u8>>)>,
}

impl Look {
    pub(crate) fn read(section: &Section<'_>, dictionary: &Dictionary) -> Option<Self> {
        let purpose = section.word("purpose", &Purpose::ALL);
        if section.get("purpose").is_none() {
            section.wrong("`purpose` is missing: it says what requests of this look are for");
        }
        let with = section.need("with").and_then(|item| item.section("with"));
        // Every mistake is told, so all are read first.
        let with: Vec<_> =
            with.iter().flat_map(Section::entries).map(|(key, item)| value(key.value, item, dictionary)).collect();
        if with.is_empty() {
            section.wrong("`with` says no attribute: every request would have this look");
        }
        section.close();
        Some(Self { purpose: purpose?, with: with.into_iter().collect::<Option<_>>()? })
    }

    /// What a request with these attributes is for, where it has this look.
    pub(crate) fn purpose(&self, attributes: &Attributes<'_>, dictionary: &Dictionary) -> Option<Purpose> {
        let has = |(definition, wanted): &(Arc<Definition>, Option<Vec<u8>>)| {
            let values = dictionary.values(attributes.clone(), definition.id);
            values.iter().any(|value| wanted.as_ref().is_none_or(|wanted| **wanted == **value))
        };
        self.with.iter().all(has).then_some(self.purpose)
    }
}

fn value(name: &str, item: Item<'_>, dictionary: &Dictionary) -> Option<(Arc<Definition>, Option<Vec<u8>>)> {
    let definition = known_attribute(name, &item, dictionary)?;
    if definition.secret || definition.kind.holds_attributes() {
        item.wrong(format!("`{name}` says nothing that one can look for"));
        return None;
    }
    let text = item.text(name)?.value;
    if text == "*" {
        return Some((definition, None));
    }
    match definition.encode(text) {
        Ok(value) => Some((definition, Some(value))),
        Err(error) => {
            item.wrong(error.to_string());
            None
        }
    }
}
