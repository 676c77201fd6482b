//! What is odd about an installation, and what to do about it.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Something that was looked at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// What was looked at: `disk`, `certificates`, `policy` and the like.
    pub about: String,
    /// How it is.
    pub weight: Weight,
    /// What was found, in a sentence.
    pub found: String,
    /// What to do; nothing where all is well.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub remedy: String,
}

/// How bad something is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Weight {
    /// Somebody is kept out or soon will be, or somebody comes in who should not.
    Trouble,
    /// It should be otherwise.
    Advice,
    /// All is well.
    Well,
}

/// What is told of one thing, of each weight; the rest is counted.
const MOST: usize = 20;

/// What was found of one thing.
pub(crate) struct Look {
    about: &'static str,
    found: Vec<Finding>,
    /// How many of each weight were found beyond those that are told.
    more: [(Weight, usize); 2],
}

impl Look {
    pub(crate) fn at(about: &'static str) -> Self {
        Self { about, found: Vec::new(), more: [(Weight::Trouble, 0), (Weight::Advice, 0)] }
    }

    pub(crate) fn trouble(&mut self, found: impl Into<String>, remedy: impl Into<String>) {
        self.find(Weight::Trouble, found.into(), remedy.into());
    }

    pub(crate) fn advice(&mut self, found: impl Into<String>, remedy: impl Into<String>) {
        self.find(Weight::Advice, found.into(), remedy.into());
    }

    fn find(&mut self, weight: Weight, found: String, remedy: String) {
        let told = self.found.iter().filter(|finding| finding.weight == weight).count();
        if let Some((_, more)) = self.more.iter_mut().find(|(of, _)| told == MOST && *of == weight) {
            *more += 1;
            return;
        }
        self.push(weight, found, remedy);
    }

    fn push(&mut self, weight: Weight, found: String, remedy: String) {
        self.found.push(Finding { about: self.about.into(), weight, found, remedy });
    }

    /// What was found; that all is well where nothing was.
    pub(crate) fn else_well(mut self, well: impl Into<String>) -> Vec<Finding> {
        if self.found.is_empty() {
            self.push(Weight::Well, well.into(), String::new());
        }
        for (weight, more) in self.more.into_iter().filter(|(_, more)| *more > 0) {
            self.push(weight, format!("and {more} more like these"), "Mend those above, then look again.".into());
        }
        self.found
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_found_very_often_is_counted_and_hides_nothing_else() {
        let mut look = Look::at("equipment");
        for number in 0..500 {
            look.advice(format!("nas-{number} need not sign"), "Update it.");
        }
        look.trouble("gate-2 cannot be told", "Give it a dialect.");
        let found = look.else_well("all is well");
        assert_eq!(found.len(), MOST + 2);
        assert!(found.iter().any(|finding| finding.found == "gate-2 cannot be told"));
        let last = found.last().unwrap();
        assert_eq!((last.weight, last.found.as_str()), (Weight::Advice, "and 480 more like these"));
        assert_eq!(Look::at("disk").else_well("12 GB left").len(), 1);
    }
}
