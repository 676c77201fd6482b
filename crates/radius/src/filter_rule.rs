use crate::attribute::number::NAS_FILTER_RULE;
use crate::builder::{BuildError, Builder};

const MAX_VALUE: usize = 253;

impl Builder {
    /// Adds NAS-Filter-Rule attributes: their values joined are the rules with a
    /// zero byte between them (RFC 4849 section 2).
    pub fn filter_rules(&mut self, rules: &[String]) -> Result<(), BuildError> {
        let joined = rules.join("\0");
        joined.as_bytes().chunks(MAX_VALUE).try_for_each(|chunk| self.attribute(NAS_FILTER_RULE, chunk))
    }
}

/// The rules that the values of all NAS-Filter-Rule attributes carry.
pub(crate) fn read_filter_rules<'a>(values: impl Iterator<Item = &'a [u8]>) -> Vec<String> {
    let joined: Vec<u8> = values.flatten().copied().collect();
    match joined.is_empty() {
        true => Vec::new(),
        false => joined.split(|byte| *byte == 0).map(|rule| String::from_utf8_lossy(rule).into_owned()).collect(),
    }
}
