//! What the docs say of facts, statements and methods is what the code has.
use std::fs;
use std::path::Path;

use regnant_eap::Kind;
use regnant_equipment::{Dialect, Vocabulary};
use regnant_policy::{Inner, Method, STATEMENTS, Stage, Takes, Type};
use regnant_radius::Dictionary;

fn kind(kind: &Type) -> String {
    match kind {
        Type::Enumeration(words) => words.iter().map(|(word, _)| format!("`{word}`")).collect::<Vec<_>>().join(", "),
        kind => kind.describe().trim_start_matches("a ").trim_start_matches("an ").to_owned(),
    }
}

fn facts() -> String {
    let vocabulary = Vocabulary::standard();
    let mut text = String::from("| fact | what it is | known | meaning |\n| --- | --- | --- | --- |\n");
    for (_, fact) in vocabulary.schema().facts() {
        let attribute =
            fact.name.strip_prefix("request.").is_some_and(|name| vocabulary.dictionary().by_name(name).is_some());
        if attribute {
            continue;
        }
        let known = match fact.known {
            Stage::FirstPacket => "at once",
            Stage::Proof => "after proof",
            Stage::End => "in the journal only",
        };
        text += &format!("| `{}` | {} | {known} | {} |\n", fact.name, kind(&fact.kind), fact.meaning);
    }
    text
}

fn statements() -> String {
    let dictionary = Dictionary::standard();
    let dialect = Dialect::standard(&dictionary);
    let mut text = String::from("| statement | meaning | sent by the `standard` dialect as |\n| --- | --- | --- |\n");
    for statement in &STATEMENTS {
        let takes = statement.fields.iter().map(|field| {
            let value = match &field.takes {
                Takes::Vlan => "30 / \"name\"".into(),
                Takes::NumberOrText(..) => "12 / \"name\"".into(),
                Takes::Text(_) => "\"text\"".into(),
                Takes::Acl => "NAME".into(),
                Takes::Duration(_) => "4h".into(),
                Takes::Number(range, _) => range.end().to_string(),
                Takes::Rate => "10M".into(),
                Takes::Address4 => "10.44.0.7".into(),
                Takes::Address6 => "2001:db8::7".into(),
                Takes::Word(words) => words.join(" / "),
                Takes::Flag => String::new(),
                Takes::Attribute => "NAME = VALUE".into(),
            };
            let text = format!("{} {value}", field.word).trim().to_owned();
            if field.optional { format!("[{text}]") } else { text }
        });
        let takes = takes.collect::<Vec<_>>().join(" ");
        let more = match statement.repeats {
            true => " Several may stand together.".into(),
            false if statement.place != statement.keyword => format!(" In the place of `{}`.", statement.place),
            false => String::new(),
        };
        let sent = dialect.attributes_of(statement);
        let sent = sent.iter().map(|(name, value)| match (value.as_str(), dictionary.by_name(name)) {
            ("{}", Some(known)) => format!("{name} ({})", known.source),
            ("{}", None) => name.clone(),
            (constant, _) => format!("{name} {constant}"),
        });
        let mut sent = sent.collect::<Vec<_>>().join(", ");
        if let Some(why) = dialect.cannot(statement) {
            sent = format!("nothing: {why}");
        } else if statement.names_attribute() {
            sent = "that attribute".into();
        }
        text += &format!("| `{} {takes}` | {}{more} | {sent} |\n", statement.keyword, statement.meaning);
    }
    text
}

fn methods() -> String {
    let mut text = String::from("| method | over | may go inside | needs |\n| --- | --- | --- | --- |\n");
    for (word, method) in Method::ALL {
        let over = if method.is_eap() { "EAP" } else { "the request itself" };
        let inside = method.inner().iter().map(|inner| format!("`{}`", inner.word())).collect::<Vec<_>>().join(", ");
        let needs = match (method.needs_certificate(), method) {
            (true, Method::EapTls) => "`present certificate`, `trust`",
            (true, _) => "`present certificate`; `trust` with `eap-tls` inside",
            (false, _) => "",
        };
        text += &format!("| `{word}` | {over} | {inside} | {needs} |\n");
    }
    text
}

#[test]
fn a_method_has_the_same_name_in_the_language_and_in_conversations() {
    let names: Vec<_> = (0..=255).map(|number| Kind(number).to_string()).collect();
    let words = Method::ALL.iter().filter(|(_, method)| method.is_eap()).map(|(word, _)| *word);
    let inner = Inner::ALL.iter().map(|(word, _)| *word).filter(|word| word.starts_with("eap-"));
    for word in words.chain(inner) {
        assert!(names.iter().any(|name| name == word), "{word}");
    }
}

/// Holds a table of the docs equal to what is made from the code, or puts it there.
fn compare(name: &str, table: &str) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/writ.md");
    let text = fs::read_to_string(&path).unwrap();
    let (begin, end) = (format!("<!-- {name} -->\n"), format!("<!-- end of {name} -->\n"));
    let (before, rest) = text.split_once(&begin).expect("docs/writ.md has a place for the table");
    let (written, after) = rest.split_once(&end).expect("and an end of it");
    if std::env::var_os("REGNANT_UPDATE").is_some() {
        fs::write(&path, format!("{before}{begin}{table}{end}{after}")).unwrap();
        return;
    }
    assert_eq!(written, table, "run it once with REGNANT_UPDATE=1 and read what changed");
}

#[test]
fn the_documented_facts_statements_and_methods_are_those_that_there_are() {
    compare("facts", &facts());
    compare("statements", &statements());
    compare("methods", &methods());
}
