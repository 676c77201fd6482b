//! Every code has a help, and `docs/codes.md` is made of them:
//! `REGNANT_UPDATE=1 cargo test -p regnant-policy --test codes` writes it anew.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use regnant_policy::{CODES, explain};

fn sources(folder: &Path, found: &mut String) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, found);
        } else if path.extension().is_some_and(|extension| extension == "rs") && !path.ends_with("codes.rs") {
            found.push_str(&fs::read_to_string(&path).unwrap());
        }
    }
}

#[test]
fn every_code_that_can_be_told_has_a_help_and_no_other() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut text = String::new();
    for one in ["policy/src", "service/src", "equipment/src"] {
        sources(&crates.join(one), &mut text);
    }
    let is_code =
        |word: &&str| word.len() == 4 && word.starts_with('W') && word[1..].bytes().all(|c| c.is_ascii_digit());
    let told: BTreeSet<&str> = text.split('"').filter(is_code).collect();
    let helped: BTreeSet<&str> = CODES.iter().map(|help| help.code).collect();
    assert_eq!(told, helped);
    assert!(CODES.is_sorted_by_key(|help| help.code), "they are found by their numbers");
    assert_eq!(explain("w412").map(|help| help.title), Some("a copy that nobody has looked at"));
    assert_eq!(explain("W999"), None);
}

#[test]
fn the_page_of_codes_is_made_of_the_help() {
    let mut page = "# What findings mean\n\n<!-- Made from the code; `regnant policy explain W412` says the same. -->\n\n\
                    W1.. are about how a policy is written, W2.. about facts and conditions, W3.. about grants and access lists, W4.. \
                    about gates, W5.. about what is odd and works all the same, W6.. about cases.\n"
        .to_owned();
    for help in &CODES {
        page.push_str(&format!("\n## {}\n\n**{}.** {}\n", help.code, capital(help.title), help.text));
    }
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/codes.md");
    if std::env::var_os("REGNANT_UPDATE").is_some() {
        fs::write(&file, &page).unwrap();
    }
    let kept = fs::read_to_string(&file).unwrap_or_default();
    assert!(kept == page, "docs/codes.md is another: REGNANT_UPDATE=1 writes it anew");
}

fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().collect::<String>() + letters.as_str())
}
