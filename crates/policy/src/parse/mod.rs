//! Text to tree. Nothing here knows what a fact or a grant means.

pub(crate) mod ast;
mod condition;
mod gate;
mod include;
mod item;
pub(crate) mod lexer;
mod parser;

pub use include::bad_path;
pub(crate) use parser::parse;
