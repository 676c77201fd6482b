pub(crate) mod acl;
pub(crate) mod dialect;
