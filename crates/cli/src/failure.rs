use std::fmt;
use std::process::ExitCode;

/// A command that could not do its work, told in a sentence.
#[derive(Debug)]
pub(crate) struct Failure {
    text: String,
    code: u8,
}

impl Failure {
    /// The work failed: exit code 1.
    pub(crate) fn new(text: impl fmt::Display) -> Self {
        Self { text: text.to_string(), code: 1 }
    }

    /// The command was used wrongly: exit code 2, as for every usage error.
    pub(crate) fn usage(text: impl fmt::Display) -> Self {
        Self { text: text.to_string(), code: 2 }
    }

    /// What is wrong, in a sentence.
    pub(crate) fn text(&self) -> &str {
        &self.text
    }

    /// Prints the failure and gives its exit code.
    pub(crate) fn tell(self) -> ExitCode {
        eprintln!("regnant: {}", self.text.trim_end());
        ExitCode::from(self.code)
    }
}

impl<E: std::error::Error> From<E> for Failure {
    fn from(error: E) -> Self {
        Self::new(error)
    }
}
