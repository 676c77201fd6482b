//! Text to tree. Nothing here knows what a fact or a grant means.

pub(crate) mod ast;
mod condition;
mod gate;
mod include;
mod item;
pub(crate) mod lexer;
pub(crate) mod notes;
mod parser;

pub use include::bad_path;
pub(crate) use notes::Role;
pub(crate) use parser::{parse, read_names, read_wanted};
