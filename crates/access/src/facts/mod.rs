pub(crate) mod attributes;
pub(crate) mod packet_facts;
pub(crate) mod request_facts;
pub(crate) mod table;
