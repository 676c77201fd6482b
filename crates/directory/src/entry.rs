//! Entries as they come, with their attributes by name, whatever its case.

use std::collections::HashMap;

use ldap3::asn1::{PL, StructureTag};

/// Where a SearchResultEntry stands (RFC 4511 section 4.5.2).
const SEARCH_RESULT_ENTRY: u64 = 4;

/// An entry.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Entry {
    pub(crate) name: String,
    attributes: HashMap<String, Vec<String>>,
    binary: HashMap<String, Vec<Vec<u8>>>,
}

impl Entry {
    /// Takes an entry apart; none where it is no entry. The library's own way ends in a panic then.
    pub(crate) fn read(entry: StructureTag) -> Option<Self> {
        let [name, attributes] = <[_; 2]>::try_from(parts(entry, SEARCH_RESULT_ENTRY)?).ok()?;
        let mut read = Self::nameless(text(name)?);
        for attribute in several(attributes)? {
            let [kind, values] = <[_; 2]>::try_from(several(attribute)?).ok()?;
            let kind = text(kind)?.to_lowercase();
            for value in several(values)? {
                match String::from_utf8(bytes(value)?) {
                    Ok(value) => read.attributes.entry(kind.clone()).or_default().push(value),
                    Err(value) => read.binary.entry(kind.clone()).or_default().push(value.into_bytes()),
                }
            }
        }
        Some(read)
    }

    /// One of which nothing is known but its name.
    pub(crate) fn nameless(name: String) -> Self {
        Self { name, ..Self::default() }
    }

    pub(crate) fn all(&self, attribute: &str) -> &[String] {
        self.attributes.get(&attribute.to_lowercase()).map_or(&[], Vec::as_slice)
    }

    pub(crate) fn first(&self, attribute: &str) -> Option<&str> {
        self.all(attribute).first().map(String::as_str).filter(|value| !value.is_empty())
    }

    /// The part of an attribute that came, where it came in parts ([MS-ADTS] section 3.1.1.3.1.3.3), with
    /// the number of the first value of the next one, where there is one.
    pub(crate) fn part(&self, attribute: &str) -> Option<(&[String], Option<usize>)> {
        let begin = format!("{};range=", attribute.to_lowercase());
        self.attributes.iter().find_map(|(name, values)| {
            let (_, last) = name.strip_prefix(&begin)?.split_once('-')?;
            Some((values.as_slice(), last.parse().ok().map(|last: usize| last.saturating_add(1))))
        })
    }

    /// A value as bytes, whether it is text or not.
    pub(crate) fn bytes(&self, attribute: &str) -> Option<&[u8]> {
        let binary = self.binary.get(&attribute.to_lowercase()).and_then(|values| values.first());
        binary.map(Vec::as_slice).or_else(|| self.first(attribute).map(str::as_bytes))
    }

    /// Every value as bytes.
    pub(crate) fn all_bytes(&self, attribute: &str) -> impl Iterator<Item = &[u8]> {
        let binary = self.binary.get(&attribute.to_lowercase()).into_iter().flatten().map(Vec::as_slice);
        binary.chain(self.all(attribute).iter().map(String::as_bytes))
    }

    #[cfg(test)]
    pub(crate) fn of(name: &str, attributes: &[(&str, &[&str])]) -> Self {
        let owned = |values: &&[&str]| values.iter().map(|value| (*value).to_owned()).collect();
        let attributes = attributes.iter().map(|(name, values)| (name.to_lowercase(), owned(values))).collect();
        Self { name: name.to_owned(), attributes, binary: HashMap::new() }
    }
}

fn parts(tag: StructureTag, id: u64) -> Option<Vec<StructureTag>> {
    if tag.id == id { several(tag) } else { None }
}

fn several(tag: StructureTag) -> Option<Vec<StructureTag>> {
    match tag.payload {
        PL::C(parts) => Some(parts),
        PL::P(_) => None,
    }
}

fn bytes(tag: StructureTag) -> Option<Vec<u8>> {
    match tag.payload {
        PL::P(bytes) => Some(bytes),
        PL::C(_) => None,
    }
}

fn text(tag: StructureTag) -> Option<String> {
    String::from_utf8(bytes(tag)?).ok()
}

/// Reads any bytes as an entry, for those who try what comes of them.
#[doc(hidden)]
pub fn read_any(bytes: &[u8]) {
    crate::wire::follow(&[bytes]);
    if let Ok((_, tag)) = ldap3::asn1::parse_tag(bytes) {
        let _ = Entry::read(tag);
    }
}

#[cfg(test)]
mod tests {
    use ldap3::asn1::{TagClass, parse_tag};
    use proptest::prelude::*;

    use super::*;

    fn tag(id: u64, class: TagClass, payload: PL) -> StructureTag {
        StructureTag { id, class, payload }
    }

    fn octets(bytes: &[u8]) -> StructureTag {
        tag(4, TagClass::Universal, PL::P(bytes.to_vec()))
    }

    #[test]
    fn an_entry_is_read_and_nothing_else_is_one() {
        let values = tag(17, TagClass::Universal, PL::C(vec![octets(b"ida.marsh"), octets(&[0xff, 0])]));
        let attribute = tag(16, TagClass::Universal, PL::C(vec![octets(b"UID"), values]));
        let attributes = tag(16, TagClass::Universal, PL::C(vec![attribute]));
        let entry = tag(4, TagClass::Application, PL::C(vec![octets(b"uid=ida.marsh"), attributes.clone()]));
        let read = Entry::read(entry).unwrap();
        assert_eq!((read.name.as_str(), read.first("uid")), ("uid=ida.marsh", Some("ida.marsh")));
        assert_eq!(read.binary["uid"], [vec![0xff, 0]]);
        assert_eq!(Entry::read(tag(4, TagClass::Application, PL::C(vec![attributes]))), None);
        assert_eq!(Entry::read(octets(b"x")), None);
    }

    #[test]
    fn a_part_of_an_attribute_says_where_the_next_begins() {
        let entry = |name: &str| Entry::of("x", &[(name, &["cn=a", "cn=b"])]);
        let part = |name: &str| entry(name).part("memberOf").map(|(values, next)| (values.len(), next));
        assert_eq!(part("memberOf;range=0-1499"), Some((2, Some(1_500))));
        assert_eq!(part("memberof;Range=1500-*"), Some((2, None)));
        assert_eq!((part("memberOf"), part("memberOf;range=x")), (None, None));
    }

    proptest! {
        #[test]
        fn whatever_comes_is_an_entry_or_none(bytes: Vec<u8>, cut in 0_usize..80, changed in 0_usize..80, to: u8) {
            read_any(&bytes);
            // One of a real answer, cut and changed anywhere.
            let mut real = b"\x64\x2f\x04\x0duid=ida.marsh\x30\x1e\x30\x1c\x04\x08memberOf\x31\x10\x04\x0ecn=staff,ou=grp".to_vec();
            if let Ok((_, tag)) = parse_tag(&real) {
                prop_assert!(Entry::read(tag).is_some());
            }
            let place = changed % real.len();
            real[place] = to;
            real.truncate(real.len().min(cut + 1));
            read_any(&real);
        }
    }
}
