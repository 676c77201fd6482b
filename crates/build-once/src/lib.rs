//! Nothing to call. Cargo builds a package anew for every set of features that somebody
//! wants of it; this crate wants for the program what the tests want later, so that
//! `make test` after `make demo` builds no package a second time.
