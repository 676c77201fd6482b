//! What dictionary files say, and what is told of those that are wrong.
use std::fmt::Write as _;
use std::fs;
use std::path::Path;

use proptest::prelude::*;
use regnant_radius::*;

/// A dictionary of the demo's made-up vendor, with its attributes laid out like this.
fn tarnworks(layout: &str) -> Dictionary {
    let mut dictionary = Dictionary::standard();
    dictionary.add("tarnworks.toml", &tarnworks_file(layout)).unwrap();
    dictionary
}

fn tarnworks_file(layout: &str) -> String {
    format!(
        r#"
        title = "Tarnworks"
        source = "the manual of Tarnworks"
        attribute = [
          {{ number = 1, name = "Tarn-Zone", type = "text", repeats = true, also = ["Quay-Zone"] }},
          {{ number = 2, name = "Tarn-Berth", type = "integer", values = {{ North = 1, South = 2 }} }},
          {{ number = 3, name = "Tarn-Pass", type = "string", hidden = "tunnel-password", tagged = true }},
          {{ number = 4, name = "Tarn-Crane", type = "tlv", repeats = true }},
          {{ number = 1, name = "Reach", inside = "Tarn-Crane", type = "integer16" }},
          {{ number = 2, name = "Key", inside = "Tarn-Crane", type = "string", secret = true }},
          {{ number = 3, name = "Load", inside = "Tarn-Crane", type = "tlv" }},
          {{ number = 1, name = "Most", inside = "Tarn-Crane.Load", type = "integer64" }},
          {{ number = 5, name = "Tarn-Tide", type = "integer8" }},
          {{ number = 7, name = "Tarn-Wide", inside = "Extended-Vendor-Specific-1", type = "text" }},
          {{ number = 8, name = "Tarn-Long", inside = "Extended-Vendor-Specific-5", type = "string" }},
        ]
        [vendor]
        name = "Tarn"
        number = 32473
        {layout}
        "#
    )
}

const LAYOUTS: [&str; 7] = [
    "",
    "continuation = true",
    "length-bytes = 0",
    "type-bytes = 2\nlength-bytes = 2",
    "type-bytes = 4\nlength-bytes = 0",
    "type-bytes = 4\nlength-bytes = 1",
    "type-bytes = 2\nlength-bytes = 1\ncontinuation = true",
];

fn shown(dictionary: &Dictionary, attributes: &[u8]) -> Vec<(String, String)> {
    dictionary.show_all(Attributes::read(attributes).unwrap())
}

/// Every number of a space is an attribute, or said to be none.
#[test]
fn the_list_of_attributes_has_no_holes() {
    let dictionary = Dictionary::standard();
    let space = |outer: Option<u8>| {
        let id = move |number: u8| match outer {
            None => AttributeId::plain(number),
            Some(outer) => AttributeId::plain(outer).inner(number.into()).unwrap(),
        };
        (1..=u8::MAX).map(id)
    };
    let spaces = [None, Some(241), Some(242), Some(243), Some(244), Some(245), Some(246)];
    for id in spaces.into_iter().flat_map(space) {
        let number = *id.numbers().last().unwrap();
        let unassigned = dictionary.unassigned().iter().filter(|range| {
            let (first, own) = (range.first.numbers().last().copied().unwrap(), range.first.numbers().len());
            own == id.numbers().len()
                && range.first.numbers()[..own - 1] == id.numbers()[..own - 1]
                && (first..=range.last).contains(&number)
        });
        let said = usize::from(dictionary.by_id(id).is_some()) + unassigned.count();
        assert_eq!(said, 1, "{id} is said {said} times");
    }
}

#[test]
fn every_attribute_of_the_rfcs_says_where_it_is_defined() {
    for one in Dictionary::standard().definitions() {
        assert!(one.source.starts_with("RFC ") && one.source.contains(" section "), "{}: {}", one.name, one.source);
        assert_eq!(one.kind == Kind::Enum, one.values().next().is_some(), "{}", one.name);
        assert!(one.hidden.is_none() || one.secret, "{}", one.name);
    }
}

/// `docs/attributes.md` is made from the dictionary.
#[test]
fn the_list_in_the_docs_is_the_dictionary() {
    let dictionary = Dictionary::standard();
    let mut rows = vec![];
    for one in dictionary.definitions() {
        let also = one.also.iter().map(|name| format!(" (also {name})")).collect::<String>();
        let flags = [
            one.tagged.then(|| "tagged".to_owned()),
            one.hidden.map(|hidden| format!("hidden as {}", hidden.word())),
            (one.secret && one.hidden.is_none()).then(|| "secret".to_owned()),
            one.reserved.then(|| "the service's own".to_owned()),
        ];
        let flags = flags.into_iter().flatten().collect::<Vec<_>>().join(", ");
        let (name, kind, source, accept) = (&one.name, one.kind.word(), &one.source, one.accept.word());
        rows.push((one.id, format!("| {} | {name}{also} | {kind} | {accept} | {flags} | {source} |", one.id)));
    }
    for range in dictionary.unassigned() {
        let last = if range.first.numbers().last() == Some(&range.last) {
            String::new()
        } else {
            format!(" to {}", range.last)
        };
        rows.push((range.first, format!("| {}{last} | | | | {} | |", range.first, range.why)));
    }
    rows.sort_by_key(|(id, _)| *id);
    let mut text = String::from(
        "# Attributes\n\nEvery attribute of the RFCs that Regnant knows by name. The list is made from the dictionary files \
         in `crates/radius/dictionary`, which ship with it; how to add those of a vendor is told in \
         [dictionaries.md](dictionaries.md).\n\nThe number is written as RFC 6929 section 2.7 does: `26.311.16` stands in \
         Vendor-Specific, `241.1` in an extended attribute, `173.1` in a TLV. *Accept* is how many an Access-Accept may \
         carry, as the tables of the RFCs say it. What is *secret* is no fact, and is never shown or kept.\n\n\
         | number | name | type | accept | | defined in |\n| --- | --- | --- | --- | --- | --- |\n",
    );
    rows.iter().for_each(|(_, row)| writeln!(text, "{row}").unwrap());
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/attributes.md");
    if std::env::var_os("REGNANT_UPDATE").is_some() {
        fs::write(&path, &text).unwrap();
    }
    assert!(fs::read_to_string(&path).unwrap_or_default() == text, "docs/attributes.md: run with REGNANT_UPDATE=1");
}

#[test]
fn attributes_of_every_layout_are_written_and_read() {
    for layout in LAYOUTS {
        let dictionary = tarnworks(layout);
        let sent = [
            ("Tarn-Zone", "quay"),
            ("Quay-Zone", "yard"),
            ("Tarn-Berth", "South"),
            ("Tarn-Crane.Reach", "77"),
            ("Tarn-Crane.Load.Most", "12345678901"),
            ("Tarn-Tide", "3"),
            ("Tarn-Wide", "all"),
        ];
        let bytes = dictionary.encode(sent).unwrap();
        let mut expected = sent.map(|(name, value)| (name.to_owned(), value.to_owned()));
        expected[1].0 = "Tarn-Zone".into();
        assert_eq!(shown(&dictionary, &bytes), expected, "{layout}");
        let reach = dictionary.by_name("tarn-crane.reach").unwrap();
        assert_eq!(dictionary.values(Attributes::read(&bytes).unwrap(), reach.id)[0][..], [0, 77]);
        assert_eq!(reach.id.to_string(), "26.32473.4.1");
        assert_eq!(dictionary.by_name("Tarn-Wide").unwrap().id.to_string(), "241.26.32473.7");
    }
}

#[test]
fn tlvs_of_one_attribute_share_it_until_one_comes_again() {
    let dictionary = tarnworks("");
    let bytes = dictionary
        .encode([("Tarn-Crane.Reach", "1"), ("Tarn-Crane.Load.Most", "2"), ("Tarn-Crane.Reach", "3")])
        .unwrap();
    // RFC 2865 section 5.26 around RFC 6929 section 2.3.
    let vendor = [0, 0, 0x7e, 0xd9];
    let first = [&[26, 24][..], &vendor, &[4, 18, 1, 4, 0, 1, 3, 12, 1, 10, 0, 0, 0, 0, 0, 0, 0, 2]].concat();
    let second = [&[26, 12][..], &vendor, &[4, 6, 1, 4, 0, 3]].concat();
    assert_eq!(bytes, [first, second].concat());
}

#[test]
fn what_is_long_goes_on_where_its_form_can_and_is_refused_where_it_cannot() {
    let long = "x".repeat(700);
    for (layout, goes_on) in [("", false), ("continuation = true", true), ("length-bytes = 2", false)] {
        let dictionary = tarnworks(layout);
        let encoded = dictionary.encode([("Tarn-Zone", long.as_str())]);
        match goes_on {
            true => assert_eq!(shown(&dictionary, &encoded.unwrap()), [("Tarn-Zone".to_owned(), long.clone())]),
            false => assert!(matches!(encoded, Err(EncodeError::Build(BuildError::ValueTooLong { .. }))), "{layout}"),
        }
    }
    let dictionary = tarnworks("");
    for name in ["Tarn-Long", "DHCPv6-Options", "NAS-Filter-Rule", "SAML-Protocol"] {
        let bytes = dictionary.encode([(name, long.as_str()), ("Filter-Id", "after")]).unwrap();
        let told = shown(&dictionary, &bytes);
        let value = told[0].1.trim_matches('"');
        assert_eq!((told[0].0.as_str(), value, told.len()), (name, long.as_str(), 2));
    }
    assert!(dictionary.encode([("Frag-Status", "1"), ("Tarn-Wide", long.as_str())]).is_err());
}

#[test]
fn what_was_to_go_on_and_did_not_is_told_and_kept_out() {
    let dictionary = tarnworks("");
    let part = |more: u8, text: &str| [&[245, text.len() as u8 + 4, 1, more], text.as_bytes()].concat();
    let broken = [part(0x80, "<a"), vec![11, 4, b'o', b'k'], part(0, "b>")].concat();
    let told = shown(&dictionary, &broken);
    let pair = |name: &str, value: &str| (name.to_owned(), value.to_owned());
    assert_eq!(
        told,
        [pair("SAML-Assertion", "2 bytes that do not read"), pair("Filter-Id", "ok"), pair("SAML-Assertion", "b>")]
    );
    let assertion = dictionary.by_name("SAML-Assertion").unwrap().id;
    assert_eq!(dictionary.values(Attributes::read(&broken).unwrap(), assertion), [&b"b>"[..]]);
}

#[test]
fn attributes_that_nobody_knows_are_shown_by_number_vendor_and_bytes() {
    let dictionary = Dictionary::standard();
    let vendor = [0, 0, 0x7e, 0xd9];
    let unknown = [
        vec![200, 4, 1, 2],
        [&[26, 10][..], &vendor, &[9, 4, 5, 6]].concat(),
        [&[26, 8][..], &vendor, &[9, 9]].concat(),
        vec![241, 5, 99, 1, 2],
        vec![26, 4, 1, 2],
    ];
    let told = shown(&dictionary, &unknown.concat());
    let told: Vec<_> = told.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect();
    assert_eq!(
        told,
        [
            ("attribute 200", "0x0102"),
            ("attribute 26.32473.9", "0x0506"),
            ("vendor 32473", "0x0909"),
            ("attribute 241.99", "0x0102"),
            ("Vendor-Specific", "0x0102"),
        ]
    );
}

#[test]
fn secrets_are_blanked_wherever_they_stand_and_with_them_what_does_not_read() {
    let dictionary = tarnworks("");
    let crane = dictionary
        .encode([("Tarn-Crane.Reach", "7"), ("Tarn-Crane.Key", "Winch-Oil-48"), ("Tarn-Zone", "quay")])
        .unwrap();
    let kept = dictionary.without_secrets(Attributes::read(&crane).unwrap());
    assert_eq!(kept.len(), crane.len());
    assert!(!kept.windows(5).any(|part| part == b"Winch") && kept.windows(4).any(|part| part == b"quay"));
    assert_eq!(shown(&dictionary, &crane)[1], ("Tarn-Crane.Key".into(), "(secret)".into()));
    let vendor = [0, 0, 0x7e, 0xd9];
    let broken = [&[26, 13][..], &vendor, &[4, 7, 2, 99, b'W', b'i', b'n']].concat();
    assert!(dictionary.without_secrets(Attributes::read(&broken).unwrap()).ends_with(&[0; 5]));
    let whole = Attributes::read(&broken).unwrap().next().unwrap();
    assert!(dictionary.holds_secret(whole));
}

#[test]
fn mistakes_of_a_file_are_told_with_file_and_line_and_nothing_of_it_is_taken() {
    let told = |text: &str| {
        let mut dictionary = tarnworks("");
        let before = dictionary.definitions().len();
        let mistakes = dictionary.add("quay.toml", text).unwrap_err();
        assert_eq!(dictionary.definitions().len(), before);
        assert!(dictionary.vendor(7).is_none());
        mistakes.iter().map(ToString::to_string).collect::<Vec<_>>()
    };
    let vendor = "\n[vendor]\nname = \"Quay\"\nnumber = 7";
    let one = |attribute: &str| told(&format!("attribute = [\n{{ {attribute} }}\n]{vendor}"));
    assert_eq!(told("[vendor]\nname = \"Quay\""), ["quay.toml:1: `number` is missing"]);
    assert_eq!(
        one("number = 1, name = \"Quay-Side\", type = \"txt\""),
        ["quay.toml:2: there is no type `txt`; did you mean `text`?"]
    );
    assert_eq!(
        one("number = 300, name = \"Quay-Side\", type = \"text\""),
        ["quay.toml:2: `number` must be at most 255"]
    );
    assert_eq!(
        one("number = 1, name = \"Side\", type = \"text\""),
        ["quay.toml:2: the name `Side` must begin with its vendor's, such as Quay-Side"]
    );
    assert_eq!(
        one("number = 1, name = \"Quay-A\", type = \"text\" }, { number = 1, name = \"Quay-B\", type = \"text\""),
        ["quay.toml:2: 26.7.1 is defined already, as Quay-A in quay.toml, line 2"]
    );
    assert_eq!(
        one("number = 1, name = \"Quay-A\", type = \"text\", also = [\"tarn-zone\", \"quay-zone\"]"),
        ["quay.toml:2: the name `tarn-zone` is taken, by 26.32473.1 in tarnworks.toml, line 5"]
    );
    assert_eq!(
        one("number = 1, name = \"Quay-A\", type = \"text\", tagged = 1, sekret = true"),
        [
            "quay.toml:2: `tagged` must be true or false, and is an integer",
            "quay.toml:2: `sekret` means nothing here; did you mean `secret`?",
        ]
    );
    assert_eq!(
        one("number = 1, name = \"A\", inside = \"Tarn-Zone\", type = \"text\""),
        ["quay.toml:2: `Tarn-Zone` is of type text, and nothing stands in it"]
    );
    assert_eq!(
        one("number = 1, name = \"Quay-A\", type = \"integer8\", values = { Low = 1, High = 256 }"),
        ["quay.toml:2: `High` must be 0 to 255, and is 256"]
    );
    let standard = told("attribute = [{ number = 1, name = \"Login\", type = \"text\" }]");
    assert_eq!(standard, ["quay.toml:1: 1 is defined already, as User-Name in rfc2865.toml, line 10"]);
    let layout = told("[vendor]\nname = \"Tarn\"\nnumber = 32473\ntype-bytes = 3\nlength-bytes = 2");
    assert_eq!(layout, ["quay.toml:4: `type-bytes` is one of 1, 2, 4"]);
    assert!(told("[vendor]\nname = \"Tarn\"\nnumber = 32473\nlength-bytes = 2")[0].contains("known already"));
}

#[test]
fn a_dictionary_says_which_values_make_administrators() {
    let of = |name: &str| {
        let dictionary = Dictionary::standard();
        dictionary.by_name(name).unwrap().clone()
    };
    let service = of("Service-Type");
    for (value, privileged) in
        [("Administrative", true), ("6", true), ("callback-administrative", true), ("11", true), ("NAS-Prompt", false)]
    {
        assert_eq!(service.makes_administrator(Some(value)), Some(privileged), "{value}");
    }
    assert_eq!(service.makes_administrator(None), Some(true), "a value that a fact gives may be any");
    let level = of("Management-Privilege-Level");
    assert_eq!(
        ["0", "1", "2", "15", "x"].map(|value| level.makes_administrator(Some(value)).unwrap()),
        [false, false, true, true, true]
    );
    assert_eq!(of("Filter-Id").makes_administrator(Some("admin")), None);
    let marked = |privileged: &str| {
        let text = format!(
            "attribute = [{{ number = 1, name = \"Tarnworks-Say\", type = \"text\", privileged = {privileged} }}]\n\
             [vendor]\nname = \"Tarnworks\"\nnumber = 32473\n"
        );
        let mut dictionary = Dictionary::standard();
        let added = dictionary
            .add("own.toml", &text)
            .map_err(|mistakes| mistakes.iter().map(ToString::to_string).collect::<String>());
        added.map(|()| dictionary.by_name("Tarnworks-Say").unwrap().clone())
    };
    let say = marked("[\"level=15\"]").unwrap();
    assert_eq!(say.makes_administrator(Some("shell:Level=15")), Some(true));
    assert_eq!(say.makes_administrator(Some("shell:level=1")), Some(false));
    assert_eq!(marked("false").unwrap().makes_administrator(None), Some(false));
    assert!(marked("[]").unwrap_err().contains("a list of such values"));
}

#[test]
fn files_of_early_releases_are_read_still() {
    let early =
        "vendor = 32473\n[[attribute]]\nname = \"Quay-Zone\"\nnumber = 3\ntype = \"octets\"\nrfc = \"a manual\"\n";
    let dictionary = Dictionary::of_files([("early.toml", early)]).unwrap();
    let zone = dictionary.by_name("quay-zone").unwrap();
    assert_eq!(
        (zone.kind, zone.source.as_str(), zone.id),
        (Kind::Octets, "a manual", AttributeId::of_vendor(32473, 3))
    );
}

/// A value of this type as a person writes it.
fn value_of(definition: &Definition) -> BoxedStrategy<String> {
    match definition.kind {
        Kind::Text => "[a-zA-Z0-9 ]{1,40}".boxed(),
        Kind::Octets | Kind::Concat => prop::collection::vec(any::<u8>(), 1..40)
            .prop_map(|bytes| bytes.iter().fold("0x".to_owned(), |text, byte| format!("{text}{byte:02x}")))
            .boxed(),
        Kind::Integer8 => any::<u8>().prop_map(|number| number.to_string()).boxed(),
        Kind::Integer16 => any::<u16>().prop_map(|number| number.to_string()).boxed(),
        Kind::Integer64 => any::<u64>().prop_map(|number| number.to_string()).boxed(),
        Kind::Integer | Kind::Enum if definition.tagged => {
            (0..0x00ff_ffffu32).prop_map(|number| number.to_string()).boxed()
        }
        Kind::Integer | Kind::Enum => any::<u32>().prop_map(|number| number.to_string()).boxed(),
        Kind::Time => any::<u32>().prop_map(|number| number.to_string()).boxed(),
        Kind::InterfaceId => {
            any::<[u16; 4]>().prop_map(|[a, b, c, d]| format!("{a:04x}:{b:04x}:{c:04x}:{d:04x}")).boxed()
        }
        Kind::Ipv4Address => any::<[u8; 4]>().prop_map(|bytes| std::net::Ipv4Addr::from(bytes).to_string()).boxed(),
        Kind::Ipv6Address => any::<[u8; 16]>().prop_map(|bytes| std::net::Ipv6Addr::from(bytes).to_string()).boxed(),
        Kind::Ipv4Prefix => (any::<[u8; 4]>(), 0..=32u8)
            .prop_map(|(bytes, length)| format!("{}/{length}", std::net::Ipv4Addr::from(bytes)))
            .boxed(),
        Kind::Ipv6Prefix => (any::<[u8; 16]>(), 0..=128u8)
            .prop_map(|(bytes, length)| format!("{}/{length}", std::net::Ipv6Addr::from(bytes)))
            .boxed(),
        _ => Just(String::new()).boxed(),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// What is read is what would be written again.
    #[test]
    fn any_attribute_of_any_type_comes_back_as_it_was_sent(layout in 0..LAYOUTS.len(), seed: u64) {
        let dictionary = tarnworks(LAYOUTS[layout]);
        let mut runner = proptest::test_runner::TestRunner::new_with_rng(
            ProptestConfig::default(),
            proptest::test_runner::TestRng::from_seed(proptest::test_runner::RngAlgorithm::ChaCha, &[&seed.to_be_bytes()[..], &[0; 24]].concat()),
        );
        for definition in dictionary.definitions().iter().filter(|one| !one.kind.holds_attributes()) {
            let text = value_of(definition).new_tree(&mut runner).unwrap().current();
            let bytes = dictionary.encode([(definition.name.as_str(), text.as_str())]).unwrap();
            let values = dictionary.values(Attributes::read(&bytes).unwrap(), definition.id);
            prop_assert_eq!(values.len(), 1, "{} {}", &definition.name, &text);
            let read = Value::read(definition, &values[0]);
            prop_assert!(!matches!(read, Value::Octets(_)) || matches!(definition.kind, Kind::Octets | Kind::Concat));
            let again = dictionary.encode([(definition.name.as_str(), read.show(definition).as_str())]).unwrap();
            prop_assert_eq!(bytes, again, "{} {}", &definition.name, &text);
        }
    }

    #[test]
    fn any_bytes_are_taken_apart_and_every_byte_of_a_known_vendor_is_accounted_for(
        layout in 0..LAYOUTS.len(),
        attributes in prop::collection::vec((prop_oneof![Just(26u8), Just(241), Just(245), Just(173), any::<u8>()], any::<bool>(), prop::collection::vec(any::<u8>(), 0..30)), 0..8)
    ) {
        let dictionary = tarnworks(LAYOUTS[layout]);
        let mut bytes = Vec::new();
        for (number, ours, value) in &attributes {
            let value = if *ours { [&[0, 0, 0x7e, 0xd9][..], value].concat() } else { value.clone() };
            bytes.extend([*number, value.len() as u8 + 2]);
            bytes.extend(value);
        }
        let attributes = Attributes::read(&bytes).unwrap();
        dictionary.show_all(attributes.clone());
        let kept = dictionary.without_secrets(attributes.clone());
        prop_assert_eq!(kept.len(), bytes.len());
        prop_assert!(Attributes::read(&kept).is_some());
        for definition in dictionary.definitions() {
            dictionary.values(attributes.clone(), definition.id);
        }
    }

    #[test]
    fn any_text_is_a_dictionary_or_told_why_not(text in "[ \\na-z0-9=\"\\[\\]{},.-]{0,200}") {
        let _ = Dictionary::of_files([("any.toml", text.as_str())]);
    }
}
