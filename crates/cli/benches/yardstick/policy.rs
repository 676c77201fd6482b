//! Policies of any length.

/// Rules as a large network has them: by NAS and port, by site, by group, by address; the
/// last one is true.
pub(crate) fn policy(rules: usize) -> String {
    let mut text = String::from(
        "grant cameras { vlan 50 }\ngrant other { vlan 99 }\ngate ports {\n  accept mac\n  \
         identify mac in harbour-devices { unknown continue }\n",
    );
    for number in 0..rules - 1 {
        let when = match number % 4 {
            0 => format!("nas.name = \"yard-sw-{}\" and request.port = {}", number / 48 + 100, number % 48),
            1 => format!("nas.site = \"pier-{number}\" and device.known"),
            2 => format!("device in group \"team-{number}\" and not device.barred"),
            _ => format!("request.mac = 02-00-5E-A0-{:02X}-{:02X}", number / 256 % 256, number % 256),
        };
        text += &format!("  rule \"Rule {number}\" {{ when {when} grant other }}\n");
    }
    text + "  rule \"Cameras\" { when device in group \"cameras\" grant cameras }\n  otherwise refuse\n}\n"
}
