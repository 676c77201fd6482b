use crate::assist::names::word;
use crate::assist::{name_in, names};
use crate::grant::STATEMENTS;
use crate::parse::Role;
use crate::parse::lexer::{TokenKind, lex};
use crate::schema::{FactDefinition, Schema, Stage, Type};
use crate::source::{Source, Span};

/// What is known of what stands at a place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hover {
    /// What it is about.
    pub span: Span,
    /// What it is, in a line.
    pub title: String,
    /// What it means.
    pub text: String,
}

/// What is known of what stands at an offset.
pub fn hover(source: &Source, offset: usize, schema: &Schema) -> Option<Hover> {
    let named = names(source).into_iter().find(|named| named.span.start <= offset && offset < named.span.end);
    let Some(named) = named else { return keyword(source, offset) };
    let name = name_in(source, &named);
    let about = |title: String, text: String| Some(Hover { span: named.span, title, text });
    if let Some(id) = schema.find(name).filter(|_| matches!(named.role, Role::Fact | Role::Value | Role::List)) {
        let definition = schema.definition(id);
        return about(fact_title(definition), fact_text(definition));
    }
    match named.role {
        Role::Store => {
            let stores = schema.stores()?.iter().filter(|store| store.name == name);
            let holds: Vec<_> = stores.map(|store| store.holds.word()).collect();
            about(format!("store {name}"), format!("It holds: {}.", holds.join(", ")))
        }
        Role::Attribute => about(
            format!("attribute {name}"),
            schema.find(&format!("request.{name}")).map_or_else(
                || {
                    schema
                        .attribute(name)
                        .map_or("There is none of this name.".into(), |known| format!("Its values: {}.", known.about))
                },
                |id| fact_text(schema.definition(id)),
            ),
        ),
        // What the policy itself gives a meaning says what it is.
        _ => {
            let span = super::definition(source, offset)?;
            let item = super::names::item_of(source, span)?;
            about(format!("{} {name}", word(named.role)), source.slice(item).to_owned())
        }
    }
}

/// A fact and its type, in a line.
pub(super) fn fact_title(definition: &FactDefinition) -> String {
    let words = match &definition.kind {
        Type::Enumeration(words) => {
            let words: Vec<_> = words.iter().take(12).map(|(word, _)| word.as_str()).collect();
            format!("one of: {}", words.join(", "))
        }
        kind => kind.describe(),
    };
    format!("{}: {words}", definition.name)
}

fn fact_text(definition: &FactDefinition) -> String {
    let known = match definition.known {
        Stage::FirstPacket => "",
        Stage::Proof => " Known to rules, and not to the `when` of a gate.",
        Stage::End => " Known only after the rules.",
    };
    let always = if definition.always { " Every request has it." } else { "" };
    format!("{}{known}{always}", definition.meaning)
}

/// What a word of the language means.
fn keyword(source: &Source, offset: usize) -> Option<Hover> {
    let file = source.file_at(offset)?;
    let tokens = lex(source.text_of(file), file.span.start).ok()?;
    let token = tokens.iter().find(|token| token.span.start <= offset && offset < token.span.end)?;
    let TokenKind::Word(found) = &token.kind else { return None };
    let text = word_text(found)?;
    Some(Hover { span: token.span, title: found.clone(), text: text.to_owned() })
}

/// What a word of the language means, where it has a meaning of its own.
pub(super) fn word_text(word: &str) -> Option<&'static str> {
    let statement = || STATEMENTS.iter().find(|kind| kind.keyword == word).map(|kind| kind.meaning);
    WORDS.iter().find(|(known, _)| *known == word).map(|(_, text)| *text).or_else(statement)
}

/// Words of the language, and what they mean.
const WORDS: [(&str, &str); 47] = [
    ("zone", "The time zone of all clock times; once, in main.writ."),
    ("include", "Another file of the folder, which may hold define, list, acl, grant, case and include."),
    ("define", "A named condition."),
    ("list", "A named set of literals of one type: texts, numbers, addresses, hours of days."),
    ("grant", "What access consists of; in a rule, what is given."),
    (
        "gate",
        "One kind of request and everything about it. Gates are tried in order; the first whose `when` is true takes the request.",
    ),
    ("case", "A test, run by every check: given these facts, this is expected."),
    (
        "when",
        "The condition: of a gate over nas.*, time.* and what is known from the first packet, of a rule over all facts.",
    ),
    ("accept", "What may prove an identity here. EAP methods are offered in this order."),
    ("present", "The certificate that tunnels present, by its name."),
    ("trust", "Whose certificates are believed, and where names are found in them."),
    (
        "identify",
        "In which stores users, machines or MAC addresses are looked up and proved, and what happens where that fails.",
    ),
    ("lookup", "Adds facts about whoever is proved elsewhere; proves nobody."),
    ("remember", "A machine that proved itself from this MAC address counts as proved for that long."),
    ("resume", "How long an EAP session may be resumed; rules, account and revocation are judged each time."),
    ("rule", "A named condition and what follows from it. The first rule that is true decides."),
    ("always", "Refuses where the gate observes, too."),
    ("off", "The rule is passed over, until a moment where one is said."),
    ("copied", "Nobody has looked at what the copy gives; it cannot be activated until the words are removed."),
    ("otherwise", "What happens when no rule is true; the last of a gate."),
    ("undetermined", "What happens when a rule hangs on a store that did not answer: silence where nothing is said."),
    (
        "observe",
        "Rolls out by watching: what rules or `otherwise` would refuse is journaled as refused, and given this instead.",
    ),
    ("tell", "Which User-Name an Access-Accept carries: proved, asked or none."),
    ("refuse", "Access-Reject, perhaps with a text for the person."),
    ("silence", "No answer at all, so that the NAS asks its next server."),
    ("continue", "On to the rules, the identity not proved."),
    ("next", "Ask the next store."),
    ("unknown", "No store has it; judged after the last."),
    ("unreachable", "A store that was asked did not answer; the walk ends there, unless it says `next`."),
    ("failed", "The credential is wrong."),
    ("unfit", "The store cannot check this kind of credential."),
    ("disabled", "The account is disabled; told only after a right credential."),
    ("expired", "The account has expired; told only after a right credential."),
    ("absent", "No identity of this kind was presented."),
    ("ambiguous", "A store has several accounts of the name."),
    (
        "locked",
        "Nobody gets in under the account for now, whatever the password: locked, not at this hour, not from here.",
    ),
    ("outdated", "The password is too old, or has to be changed before it counts; told only after a right one."),
    ("extends", "Begins with what another grant says; single values may be another."),
    ("given", "Facts that a case states; what is not stated is absent."),
    ("expect", "The outcome that a case wants: a grant, refuse or silence, and by which rule."),
    ("unanswered", "A store that would know did not say."),
    ("exists", "Whether the request has the fact at all."),
    ("permit", "Traffic that may pass; the first entry that fits decides."),
    ("deny", "Traffic that may not pass; the first entry that fits decides."),
    ("revocation", "How it is found out whether a certificate was revoked, and what happens where that cannot be."),
    (
        "bound",
        "A tunnel whose inner method must be tied to it; or an account that must have the presented certificate.",
    ),
    ("stale", "What a store told earlier counts while it does not answer, for at most that long."),
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_word_is_explained_once() {
        for (place, (word, text)) in WORDS.iter().enumerate() {
            assert!(!text.is_empty() && WORDS[..place].iter().all(|(before, _)| before != word), "{word}");
        }
    }
}
