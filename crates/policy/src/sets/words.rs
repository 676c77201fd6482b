use std::collections::BTreeSet;

/// A set of texts: those that are listed, or all others. Where case does not count they are listed in small
/// letters.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Words {
    listed: BTreeSet<String>,
    others: bool,
}

impl Words {
    /// These texts.
    pub fn new(listed: impl IntoIterator<Item = String>) -> Self {
        Self { listed: listed.into_iter().collect(), others: false }
    }

    /// The texts that are listed, and whether it is all others that it holds.
    pub fn listed(&self) -> (&BTreeSet<String>, bool) {
        (&self.listed, self.others)
    }

    /// Whether it holds a text.
    pub fn has(&self, text: &str) -> bool {
        self.listed.contains(text) != self.others
    }

    /// Whether it holds none.
    pub fn is_empty(&self) -> bool {
        self.listed.is_empty() && !self.others
    }

    /// What it does not hold.
    #[must_use]
    pub fn outside(self) -> Self {
        Self { others: !self.others, ..self }
    }

    /// What both hold.
    #[must_use]
    pub fn and(mut self, other: &Self) -> Self {
        match (self.others, other.others) {
            (true, true) => self.listed.extend(other.listed.iter().cloned()),
            (false, true) => self.listed.retain(|text| !other.listed.contains(text)),
            (false, false) => self.listed.retain(|text| other.has(text)),
            (true, false) => {
                let listed = other.listed.iter().filter(|text| self.has(text)).cloned().collect();
                self = Self { listed, others: false };
            }
        }
        self
    }
}
