pub(crate) mod attribute;
pub(crate) mod request_facts;
pub(crate) mod table;
