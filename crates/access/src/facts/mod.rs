pub(crate) mod attributes;
pub(crate) mod request;
pub(crate) mod situation;
pub(crate) mod table;
