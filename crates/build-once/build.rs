//! Nothing to build: with this file, the packages that build scripts and macros need are
//! built once too.
fn main() {}
