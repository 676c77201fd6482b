use regnant_base::Mac;
use serde::{Deserialize, Serialize};

/// Who or what has access, and where, as a request for it and the reports on it both say.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Whereabouts {
    /// The name; what is no UTF-8 in it is replaced.
    pub user: Option<String>,
    /// The device.
    pub device: Option<Mac>,
    /// The port of the equipment.
    pub port: Option<u32>,
}
