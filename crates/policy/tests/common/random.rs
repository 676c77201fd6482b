//! Conditions, rules and facts at random, of few values so that they meet.

use proptest::prelude::*;
use regnant_base::Mac;
use regnant_policy::*;

use super::{Stated, stated};

const NAMES: [&str; 3] = ["staff", "Crew", "agents"];
/// Lists that conditions name.
pub(crate) const LISTS: &str = "zone \"Europe/Lisbon\"
list names = { \"staff\", \"Agents\" }
list quays = { 1, 2 }
list nights = { Mon..Fri 20:00-06:00, Sun 00:00-24:00 }\n";
/// A week in autumn in which clocks go back, in seconds since 1970.
const WEEK: std::ops::Range<i64> = 1_792_800_000..1_793_404_800;

/// A comparison with a single fact.
pub(crate) fn comparison() -> impl Strategy<Value = String> {
    let name = || prop::sample::select(NAMES.to_vec());
    let sign = || prop::sample::select(vec!["=", "!=", "<", "<=", ">", ">="]);
    prop_oneof![
        name().prop_map(|name| format!("user.name = \"{name}\"")),
        name().prop_map(|name| format!("user.name != \"{name}\"")),
        name().prop_map(|name| format!("request.ssid = \"{name}\"")),
        name().prop_map(|name| format!("request.ssid starts with \"{}\"", &name[..2])),
        name().prop_map(|name| format!("user in group \"{name}\"")),
        name().prop_map(|name| format!("user in group \"{name}\" of harbour")),
        (name(), name()).prop_map(|(a, b)| format!("any of user.groups in {{ \"{a}\", \"{b}\" }}")),
        (name(), name()).prop_map(|(a, b)| format!("all of user.groups in {{ \"{a}\", \"{b}\" }}")),
        Just("any of user.groups in names".to_owned()),
        Just("user.name in names".to_owned()),
        Just("request.port in quays".to_owned()),
        Just("time.now in nights".to_owned()),
        Just("time.now in { Sat 06:00-20:00 }".to_owned()),
        (sign(), WEEK.prop_map(|at| Value::Instant(at - at % 60)))
            .prop_map(|(sign, at)| format!("time.now {sign} {at}")),
        (sign(), 0..4i64).prop_map(|(sign, port)| format!("request.port {sign} {port}")),
        (0..3i64).prop_map(|port| format!("request.port in {{ {port}, {} }}", port + 1)),
        (0..3i64, 0..3i64).prop_map(|(first, more)| format!("request.port in {first}..{}", first + more)),
        (0..2u8).prop_map(|last| format!("request.mac = 02-00-5E-20-00-0{last}")),
        (sign(), 0..3u8).prop_map(|(sign, last)| format!("nas.address {sign} 10.44.0.{last}")),
        (sign(), 0..3u8).prop_map(|(sign, last)| format!("nas.address {sign} 2001:db8::{last}")),
        prop::sample::select(vec!["10.44.0.0/31", "0.0.0.0/0", "::/0", "2001:db8::2/127"])
            .prop_map(|block| format!("nas.address in {block}")),
        Just("device.known".to_owned()),
        Just("device.known = false".to_owned()),
        Just("nas.kind = switch".to_owned()),
        Just("nas.kind != switch".to_owned()),
        Just("exists user.groups".to_owned()),
        Just("exists request.port".to_owned()),
    ]
}

pub(crate) fn condition() -> impl Strategy<Value = String> {
    comparison().prop_recursive(3, 8, 2, |inner| {
        prop_oneof![
            1 => inner.clone().prop_map(|text| format!("not ({text})")),
            3 => (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("(({a}) and ({b}))")),
            2 => (inner.clone(), inner).prop_map(|(a, b)| format!("(({a}) or ({b}))")),
        ]
    })
}

/// What stands between the title of a rule and its brace.
pub(crate) fn times() -> impl Strategy<Value = String> {
    let at = || WEEK.prop_map(|at| Value::Instant(at - at % 60).to_string());
    prop_oneof![
        12 => Just(String::new()),
        1 => Just("off".to_owned()),
        1 => at().prop_map(|at| format!("off until {at}")),
        1 => at().prop_map(|at| format!("from {at}")),
        1 => at().prop_map(|at| format!("until {at}")),
        1 => at().prop_map(|at| format!("from 2026-01-01T00:00Z until {at}")),
    ]
}

fn maybe(value: impl Strategy<Value = Known<Value<'static>>>) -> impl Strategy<Value = Known<Value<'static>>> {
    prop_oneof![6 => value, 2 => Just(Known::Absent), 1 => Just(Known::Unanswered)]
}

fn set() -> impl Strategy<Value = Value<'static>> {
    let members = prop::collection::vec(prop::sample::select(vec!["staff", "crew", "Agents", "others"]), 0..4);
    members.prop_map(|names| Value::set(names.into_iter().map(Value::text).collect()))
}

/// What requests may be; those facts that every request has are there.
pub(crate) fn facts() -> impl Strategy<Value = Stated> {
    let text = || {
        prop::sample::select(vec!["staff", "STAFF", "crew", "Crew", "other"])
            .prop_map(|name| Known::Is(Value::text(name)))
    };
    let groups = prop_oneof![5 => set().prop_map(Known::Is), 1 => set().prop_map(Known::Partial)];
    let port = (0..5i64).prop_map(|port| Known::Is(Value::Integer(port)));
    let mac = (0..3u8).prop_map(|last| Known::Is(Value::Mac(Mac([2, 0, 0x5e, 0x20, 0, last]))));
    let address = (any::<bool>(), 0..3u8).prop_map(|(v4, last)| {
        let v6 = [0x2001, 0xdb8, 0, 0, 0, 0, 0, last.into()];
        Known::Is(Value::Address(if v4 { [10, 44, 0, last].into() } else { v6.into() }))
    });
    let known = any::<bool>().prop_map(|known| Known::Is(Value::Boolean(known)));
    let kind = (0..2i64).prop_map(|kind| Known::Is(Value::Integer(kind)));
    let now = WEEK.prop_map(|at| Known::Is(Value::Instant(at)));
    let store = prop::sample::select(vec!["harbour", "annex"]).prop_map(|store| Known::Is(Value::text(store)));
    // What a second store added is part of all groups.
    let first = (maybe(text()), maybe(text()), maybe(groups), maybe(port), maybe(mac), maybe(store), any::<bool>());
    (first, address, maybe(known), kind, now).prop_map(
        |((name, ssid, groups, port, mac, store, several), address, known, kind, now)| {
            let by_store = |set: &Value<'_>| match set {
                Value::Set(members) => {
                    let stores = ["harbour", "annex"].iter().cycle();
                    let both = members.iter().zip(stores).filter_map(|(group, store)| match group {
                        Value::Text(group) => Some(Value::owned(group_of_store(group, store))),
                        _ => None,
                    });
                    Value::set(both.collect())
                }
                other => other.clone().into_owned(),
            };
            let apart = match &groups {
                Known::Is(set) if several => Known::Is(by_store(set)),
                Known::Partial(set) => Known::Partial(by_store(set)),
                Known::Unanswered => Known::Unanswered,
                _ => Known::Absent,
            };
            stated([
                ("user.groups-by-store", apart),
                ("user.store", store),
                ("user.name", name),
                ("request.ssid", ssid),
                ("user.groups", groups),
                ("request.port", port),
                ("request.mac", mac),
                ("nas.address", address),
                ("device.known", known),
                ("nas.kind", kind),
                ("time.now", now),
            ])
        },
    )
}
