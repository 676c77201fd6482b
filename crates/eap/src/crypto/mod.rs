pub mod mschap;
pub(crate) mod prf;
