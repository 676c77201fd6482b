use std::borrow::Cow;

/// Text from outside, safe to print: characters that steer a terminal or turn the
/// direction of what follows come as `\u{1b}`, everything else as it is.
pub fn printable(text: &str) -> Cow<'_, str> {
    if !text.contains(steers) {
        return Cow::Borrowed(text);
    }
    let mut shown = String::with_capacity(text.len() + 16);
    for character in text.chars() {
        match steers(character) {
            true => shown.extend(character.escape_unicode()),
            false => shown.push(character),
        }
    }
    Cow::Owned(shown)
}

/// Control characters, and those of Unicode that nobody sees but that change how
/// the rest is read (Unicode Technical Report 36 section 2.5).
fn steers(character: char) -> bool {
    character.is_control()
        || matches!(character, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}')
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_steers_is_shown_and_the_rest_stays() {
        assert_eq!(printable("maré.alta@tarnmouth.example"), "maré.alta@tarnmouth.example");
        assert_eq!(printable("ida\x1b[2J\x07\r\n\u{9b}1m"), "ida\\u{1b}[2J\\u{7}\\u{d}\\u{a}\\u{9b}1m");
        assert_eq!(printable("a\u{202e}b"), "a\\u{202e}b");
    }

    proptest! {
        #[test]
        fn nothing_that_steers_comes_through(text in any::<String>()) {
            prop_assert!(!printable(&text).contains(steers));
        }
    }
}
