//! Lists that are made whole before a part of them is sent: of kinds of record of which nobody
//! has very many.

use serde::Deserialize;
use utoipa::IntoParams;

use crate::http::error::ApiError;
use crate::http::record::{holds, limit, page, words};

/// Which of a short list are wanted.
#[derive(Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct Wanted {
    /// Only those that hold every one of these words.
    q: Option<String>,
    /// Only those after this one: `next` of the page before.
    after: Option<String>,
    /// At most this many, 1 to 5000; 500 if not said.
    limit: Option<usize>,
}

impl Wanted {
    /// A page of a list in the order of its keys, and the key after which the next begins.
    pub(crate) fn of<T>(
        &self,
        all: impl IntoIterator<Item = T>,
        key: impl Fn(&T) -> String,
        texts: impl Fn(&T) -> Vec<String>,
    ) -> Result<(Vec<T>, Option<String>), ApiError> {
        let (limit, words) = (limit(self.limit)?, words(self.q.as_ref()));
        let later = all.into_iter().filter(|one| self.after.as_ref().is_none_or(|after| key(one) > *after));
        let mut found: Vec<_> = later.filter(|one| words.is_empty() || holds(&words, texts(one).iter())).collect();
        found.sort_by_key(&key);
        Ok(page(found, limit, key))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn pages_together_are_the_list(names: Vec<String>, word in "[a-c]?", size in 1_usize..7) {
            let mut all: Vec<_> = names.into_iter().map(|name| name.to_lowercase()).collect();
            all.sort();
            all.dedup();
            let (mut pages, mut after) = (Vec::new(), None);
            loop {
                let wanted = Wanted { q: Some(word.clone()), after: after.take(), limit: Some(size) };
                let (page, next) = wanted.of(all.clone(), String::clone, |name| vec![name.clone()]).ok().unwrap();
                prop_assert!(page.len() <= size);
                pages.extend(page);
                match next {
                    Some(next) => after = Some(next),
                    None => break,
                }
            }
            all.retain(|name| name.contains(&word));
            prop_assert_eq!(pages, all);
        }
    }
}
