pub(crate) mod authenticator;
pub(crate) mod chap;
pub(crate) mod mppe;
pub(crate) mod password;
pub(crate) mod secret;
