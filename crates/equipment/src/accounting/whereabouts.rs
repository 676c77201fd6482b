use std::borrow::Cow;

use regnant_base::Mac;
use regnant_radius::{Attributes, number};

use crate::request::port;

/// Who or what has access, and where, as a request for it and the reports on it both say.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Whereabouts<'p> {
    /// User-Name; what is no UTF-8 in it is replaced.
    pub user: Option<Cow<'p, str>>,
    /// The device that Calling-Station-Id names by its MAC address.
    pub device: Option<Mac>,
    /// The port: NAS-Port, or the last number of NAS-Port-Id.
    pub port: Option<u32>,
}

impl<'p> Whereabouts<'p> {
    /// Reads them; of several attributes of one number the first counts.
    pub fn read(attributes: Attributes<'p>) -> Self {
        let (mut user, mut calling, mut number, mut name) = (None, None, None, None);
        for attribute in attributes {
            let place = match attribute.number {
                number::USER_NAME => &mut user,
                number::CALLING_STATION_ID => &mut calling,
                number::NAS_PORT => &mut number,
                number::NAS_PORT_ID => &mut name,
                _ => continue,
            };
            place.get_or_insert(attribute.value);
        }
        let device = calling.and_then(|calling| std::str::from_utf8(calling).ok()?.parse().ok());
        Self { user: user.map(String::from_utf8_lossy), device, port: port(number, name) }
    }
}
