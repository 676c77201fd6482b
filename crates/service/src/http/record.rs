//! What every kind of record has in common at the API: its ETag, what an author saw, and
//! pages of a list.

use std::str::FromStr;

use axum::http::header::{ETAG, IF_MATCH, IF_NONE_MATCH};
use axum::http::{HeaderMap, HeaderName, HeaderValue};
use jiff::Timestamp;
use serde::Serialize;

use crate::administration::RecordVersion;
use crate::clock::iso;
use crate::http::error::ApiError;

const USUAL: usize = 500;
const MOST: usize = 5_000;

/// The ETag of a record.
pub(crate) fn etag(row: &impl Serialize) -> [(HeaderName, HeaderValue); 1] {
    [(ETAG, HeaderValue::from_str(&RecordVersion::of(row).quoted()).expect("hex digits fit a header"))]
}

/// What the author of a change saw: a version, or that there was none (RFC 9110 sections 13.1.1 and 13.1.2).
pub(crate) fn seen(headers: &HeaderMap) -> Result<Option<RecordVersion>, ApiError> {
    match headers.get(IF_NONE_MATCH).map(HeaderValue::as_bytes) {
        Some(b"*") => return Ok(Some(RecordVersion::absent())),
        Some(_) => return Err(ApiError::bad("If-None-Match is `*` here: the change is for what is not there yet.")),
        None => {}
    }
    let Some(value) = headers.get(IF_MATCH) else { return Ok(None) };
    let tag = value.to_str().ok().and_then(|text| text.trim().strip_prefix('"')?.strip_suffix('"'));
    match (tag, value.as_bytes()) {
        (_, b"*") => Ok(None),
        (Some(tag), _) if !tag.contains('"') => Ok(Some(RecordVersion(tag.to_owned()))),
        _ => Err(ApiError::bad("If-Match is one ETag in quotes, as the record's page gives it.")),
    }
}

/// The same, where the ETag is a number: that of an edition, or the version of a draft.
pub(crate) fn seen_number<N: FromStr>(headers: &HeaderMap) -> Result<Option<N>, ApiError> {
    let Some(RecordVersion(tag)) = seen(headers)? else { return Ok(None) };
    let number = tag.parse().map_err(|_| ApiError::bad(format!("If-Match is a number in quotes, and not `{tag}`.")));
    number.map(Some)
}

/// How many are wanted at once.
pub(crate) fn limit(asked: Option<usize>) -> Result<usize, ApiError> {
    match asked.unwrap_or(USUAL) {
        limit if (1..=MOST).contains(&limit) => Ok(limit),
        _ => Err(ApiError::bad(format!("`limit` is 1 to {MOST}."))),
    }
}

/// The words of a filter.
pub(crate) fn words(q: Option<&String>) -> Vec<String> {
    q.into_iter().flat_map(|q| q.split_whitespace()).map(str::to_lowercase).collect()
}

/// Whether every word stands in one of these texts.
pub(crate) fn holds<'t>(words: &[String], texts: impl Iterator<Item = &'t String> + Clone) -> bool {
    words.iter().all(|word| texts.clone().any(|text| text.to_lowercase().contains(word)))
}

/// A page of a list, and the key after which the next begins.
pub(crate) fn page<T>(mut found: Vec<T>, limit: usize, key: impl Fn(&T) -> String) -> (Vec<T>, Option<String>) {
    let next = (found.len() > limit).then(|| key(&found[limit - 1]));
    found.truncate(limit);
    (found, next)
}

/// A time that somebody sent.
pub(crate) fn time(text: &str) -> Result<i64, ApiError> {
    let read = text.parse::<Timestamp>().map(Timestamp::as_millisecond);
    read.map_err(|error| {
        ApiError::bad(format!("`{}` is no time, such as 2026-12-31T18:00:00Z: {error}", text.escape_debug()))
    })
}

/// A time as it is shown.
pub(crate) fn shown(at: Option<i64>) -> Option<String> {
    at.map(|at| iso(at.cast_unsigned()))
}

/// Whether a record that takes another's place is in the same store: what is sealed is so for
/// one of them.
pub(crate) fn stays_in(store: &str, said: &str) -> Result<(), ApiError> {
    match store == said {
        true => Ok(()),
        false => Err(ApiError::bad(format!(
            "It is in the store `{store}` and stays there: remove it, and add it to `{}`.",
            regnant_base::printable(said)
        ))),
    }
}
