pub(crate) mod device_attribute;
pub(crate) mod request_facts;
pub(crate) mod table;
