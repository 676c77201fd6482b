//! What dictionaries cost to load, and what a reply costs in each dialect.
//!
//! What counts is how the time grows with the attributes, and the ratio of the dialects: a
//! reply is a copy and a signature, whatever the dialect.

use std::hint::black_box;
use std::sync::Arc;
use std::time::{Duration, Instant};

use regnant_equipment::radius::DecisionClass;
use regnant_equipment::{Dialect, Edition, Vocabulary};
use regnant_policy::{Compiled, Source};
use regnant_radius::{Builder, Code, Dictionary, Packet, SharedSecret};
use ulid::Ulid;

const DICTIONARY: &str = include_str!("../../campus/harbour/tarnworks.dictionary.toml");
const TARNWORKS: &str = include_str!("../../campus/harbour/tarnworks.dialect.toml");
const TURNS: usize = 9;
const REPLIES: u32 = 20_000;

fn main() {
    if std::env::args().all(|argument| argument != "--bench") {
        return;
    }
    println!("A dictionary file, with those that ship; medians of {TURNS}.");
    println!("  attributes     bytes     loaded   each");
    for count in [0, 1_000, 5_000, 10_000] {
        let text = dictionary(count);
        let took = median(|| {
            let mut dictionary = Dictionary::standard();
            dictionary.add_own("tarn.toml", &text).unwrap();
            dictionary
        });
        let each = took.as_nanos() / (count as u128 + 300);
        println!("  {count:10}  {:8}  {:>9}  {each:4} ns", text.len(), format!("{:.1} ms", took.as_secs_f64() * 1e3));
    }
    println!("\nA reply of four attributes and an access list, copied and signed; medians of {TURNS}.");
    let edition = edition();
    let replies: Vec<_> = ["standard", "tarnworks"].map(|dialect| (dialect, reply(&edition, dialect))).into();
    for (dialect, took) in &replies {
        let bytes = edition.fixed_attributes(dialect, 0).unwrap().len();
        let ratio = took.as_secs_f64() / replies[0].1.as_secs_f64();
        println!("  {dialect:10}  {bytes:4} bytes  {:>8}  {ratio:.2} of standard", format!("{took:?}"));
    }
    let class = median(|| {
        for number in 0..REPLIES {
            black_box(DecisionClass::new(Ulid::from_parts(number.into(), 7), &[7; 32]));
        }
    });
    println!("  a Class of ours takes {:?}", class / REPLIES);
}

/// As a vendor's file is: one attribute in five has names for its numbers.
fn dictionary(count: usize) -> String {
    let mut text = String::from("[vendor]\nname = \"Tarn\"\nnumber = 32473\ntype-bytes = 2\n");
    for number in 1..=count {
        text += &format!("[[attribute]]\nnumber = {number}\nname = \"Tarn-Attribute-{number}\"\ntype = \"integer\"\n");
        if number % 5 == 0 {
            text += "values = { One = 1, Two = 2 }\n";
        }
    }
    text
}

fn edition() -> Edition {
    let mut dictionary = Dictionary::standard();
    dictionary.add_own("tarnworks.toml", DICTIONARY).unwrap();
    let vocabulary = Arc::new(Vocabulary::new(dictionary, Vec::new()).unwrap());
    let mut dialects = vec![Dialect::standard(vocabulary.dictionary())];
    dialects.push(Dialect::read("tarnworks.toml", TARNWORKS, vocabulary.dictionary(), &dialects).unwrap());
    let policy = "acl edge { permit tcp to 10.44.40.10 port 443 permit udp to any port 67 deny ip to any }
        grant x { vlan 40 role \"scanners\" acl edge session 4h }
        gate g { accept mac identify mac in devices otherwise grant x }";
    let policy = Compiled::from_source(Source::new("main.writ", policy), vocabulary.schema()).unwrap();
    Edition::prepare(1, policy, &dialects, vocabulary)
}

fn reply(edition: &Edition, dialect: &str) -> Duration {
    let secret = SharedSecret::new(*b"gantry-4-lashing");
    let request = Builder::new(Code::ACCESS_REQUEST, 7).request(&[9; 16], &secret);
    let request = Packet::parse(&request).unwrap();
    let all = median(|| {
        for _ in 0..REPLIES {
            let mut builder = Builder::new(Code::ACCESS_ACCEPT, 7);
            builder.encoded(edition.fixed_attributes(dialect, 0).unwrap()).unwrap();
            black_box(builder.reply(&request, &secret).unwrap());
        }
    });
    all / REPLIES
}

fn median<T>(mut work: impl FnMut() -> T) -> Duration {
    let mut times: Vec<_> = (0..TURNS)
        .map(|_| {
            let begun = Instant::now();
            black_box(work());
            begun.elapsed()
        })
        .collect();
    times.sort_unstable();
    times[TURNS / 2]
}
