//! Values that are written as text, for people who read the log.

use std::fmt::Display;
use std::str::FromStr;

use serde::de::Error;
use serde::{Deserialize, Deserializer, Serializer};

pub(crate) fn serialize<S: Serializer>(value: &impl Display, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(value)
}

pub(crate) fn deserialize<'de, D: Deserializer<'de>, T: FromStr<Err: Display>>(deserializer: D) -> Result<T, D::Error> {
    String::deserialize(deserializer)?.parse().map_err(D::Error::custom)
}
