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

/// What was found of one thing.
pub(crate) struct Look {
    about: &'static str,
    found: Vec<Finding>,
}

impl Look {
    pub(crate) fn at(about: &'static str) -> Self {
        Self { about, found: Vec::new() }
    }

    pub(crate) fn trouble(&mut self, found: impl Into<String>, remedy: impl Into<String>) {
        self.find(Weight::Trouble, found.into(), remedy.into());
    }

    pub(crate) fn advice(&mut self, found: impl Into<String>, remedy: impl Into<String>) {
        self.find(Weight::Advice, found.into(), remedy.into());
    }

    fn find(&mut self, weight: Weight, found: String, remedy: String) {
        self.found.push(Finding { about: self.about.into(), weight, found, remedy });
    }

    /// What was found; that all is well where nothing was.
    pub(crate) fn else_well(mut self, well: impl Into<String>) -> Vec<Finding> {
        if self.found.is_empty() {
            self.find(Weight::Well, well.into(), String::new());
        }
        self.found
    }
}
