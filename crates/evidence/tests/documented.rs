//! What the docs say of facts is what the code has.
use std::fs;
use std::path::Path;

use regnant_equipment::Vocabulary;
use regnant_policy::{Stage, Type};
use regnant_radius::Dictionary;

const BEGIN: &str = "<!-- facts -->\n";
const END: &str = "<!-- end of facts -->\n";

fn kind(kind: &Type) -> String {
    match kind {
        Type::Enumeration(words) => words.iter().map(|(word, _)| format!("`{word}`")).collect::<Vec<_>>().join(", "),
        kind => kind.describe().trim_start_matches("a ").trim_start_matches("an ").to_owned(),
    }
}

fn table() -> String {
    let vocabulary = Vocabulary::new(Dictionary::standard());
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

#[test]
fn the_documented_facts_are_those_that_there_are() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/writ.md");
    let text = fs::read_to_string(&path).unwrap();
    let (before, rest) = text.split_once(BEGIN).expect("docs/writ.md has a place for the table");
    let (written, after) = rest.split_once(END).expect("and an end of it");
    if std::env::var_os("REGNANT_UPDATE").is_some() {
        fs::write(&path, format!("{before}{BEGIN}{}{END}{after}", table())).unwrap();
        return;
    }
    assert_eq!(written, table(), "run it once with REGNANT_UPDATE=1 and read what changed");
}
