//! Names on their way into questions: nothing that somebody claims is more than a value there.

use std::fmt::Write as _;

/// A longer name is nobody's.
pub(crate) const LONGEST_NAME: usize = 256;

/// A value as it stands in a filter (RFC 4515 section 3): whatever has a meaning there is written
/// in hexadecimal digits, and so is all that is not printable ASCII.
pub(crate) fn value(text: &str) -> String {
    let mut escaped = String::with_capacity(text.len());
    for byte in text.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b' ' | b'.' | b'-' | b'_' | b'@' | b'=' | b',' | b'+' | b':' => {
                escaped.push(byte.into());
            }
            _ => {
                let _ = write!(escaped, "\\{byte:02x}");
            }
        }
    }
    escaped
}

/// Bytes as a value of a filter, each in hexadecimal digits.
pub(crate) fn octets(bytes: &[u8]) -> String {
    let mut escaped = String::with_capacity(3 * bytes.len());
    for byte in bytes {
        let _ = write!(escaped, "\\{byte:02x}");
    }
    escaped
}

/// A filter that wants this one, and a value in one of these attributes.
pub(crate) fn named(filter: &str, attributes: &[String], name: &str) -> String {
    let value = value(name);
    let any: String = attributes.iter().map(|attribute| format!("({attribute}={value})")).collect();
    format!("(&{filter}(|{any}))")
}

/// Whether a text is one filter: in parentheses that belong together.
pub(crate) fn is_filter(text: &str) -> bool {
    let mut open = 0_usize;
    let mut ended = false;
    for (place, character) in text.char_indices() {
        if ended || place == 0 && character != '(' {
            return false;
        }
        match character {
            '(' => open += 1,
            ')' => match open.checked_sub(1) {
                Some(left) => {
                    open = left;
                    ended = left == 0;
                }
                None => return false,
            },
            _ => {}
        }
    }
    ended
}

/// Whether a distinguished name is another, or below it. Case and spaces around commas do not
/// count; that is enough for what one directory wrote itself.
pub(crate) fn is_below(name: &str, base: &str) -> bool {
    parts(name).ends_with(&parts(base))
}

/// A distinguished name as it is compared.
pub(crate) fn plain(name: &str) -> String {
    parts(name).join(",")
}

/// What stands between the commas of a distinguished name that are not escaped.
fn parts(name: &str) -> Vec<String> {
    let (mut parts, mut part, mut escaped) = (Vec::new(), String::new(), false);
    for character in name.chars() {
        match character {
            ',' if !escaped => parts.push(std::mem::take(&mut part)),
            _ => part.push(character),
        }
        escaped = character == '\\' && !escaped;
    }
    parts.push(part);
    parts.iter().map(|part| part.trim().to_lowercase()).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_name_is_below_its_base_and_below_no_other() {
        assert!(is_below("cn=crew, ou=Groups,dc=tarnmouth,dc=example", "OU=groups,dc=tarnmouth,dc=example"));
        assert!(is_below("dc=example", "dc=example"));
        assert!(!is_below("cn=crew,ou=notgroups,dc=example", "ou=groups,dc=example"));
        assert!(!is_below("cn=x\\,ou=groups,dc=example", "ou=groups,dc=example"));
        assert!(!is_below("cn=crew,xdc=example", "dc=example"));
    }

    #[test]
    fn what_would_change_a_question_is_a_value_in_it() {
        let asked = named("(objectClass=person)", &["uid".into(), "mail".into()], "*)(uid=*))(|(uid=*");
        assert_eq!(asked.matches('*').count(), 0, "{asked}");
        assert_eq!(
            asked,
            "(&(objectClass=person)(|(uid=\\2a\\29\\28uid=\\2a\\29\\29\\28\\7c\\28uid=\\2a)\
             (mail=\\2a\\29\\28uid=\\2a\\29\\29\\28\\7c\\28uid=\\2a)))"
        );
        assert_eq!(value("é\0\\"), "\\c3\\a9\\00\\5c");
        for text in ["", "a", "(a", "a)", "(a)(b)", "((a)", "(a))", ")("] {
            assert!(!is_filter(text), "{text}");
        }
        assert!(is_filter("(&(a=b)(!(c=d)))"));
    }

    proptest! {
        #[test]
        fn no_name_ends_its_value(name: String) {
            let asked = named("(a=b)", &["uid".to_owned()], &name);
            prop_assert!(is_filter(&asked));
            let inner = asked.strip_prefix("(&(a=b)(|(uid=").unwrap().strip_suffix(")))").unwrap();
            prop_assert!(!inner.contains(['(', ')', '*', '|', '&', '!', '\0']));
            prop_assert!(inner.is_ascii());
        }

        #[test]
        fn any_two_texts_are_compared(name: String, base: String) {
            let _ = is_below(&name, &base);
        }
    }
}
