//! What a command changed, field by field.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Map, Value};

use crate::error::RecordsError;
use crate::names::RecordName;
use crate::rows::Rows;
use crate::sealing::Sealed;

/// Records of one command that are compared; an import may have very many.
const MOST: usize = 500;

/// A field of a record that a command changed. Of a secret it tells only that.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FieldChange {
    /// The record.
    pub record: RecordName,
    /// The field.
    pub field: String,
    /// What it was; none where the record was not there.
    pub before: Option<Value>,
    /// What it is; none where the record is not there any more.
    pub after: Option<Value>,
    /// Whether it is a secret, whose values are not told.
    pub secret: bool,
}

/// A record's fields, as they are and without secrets.
struct Fields {
    name: RecordName,
    whole: Map<String, Value>,
    masked: Map<String, Value>,
}

/// What is different between records before and after.
pub(crate) fn changes(before: &Rows, after: &Rows) -> Result<Vec<FieldChange>, RecordsError> {
    let (before, after) = (fields(before)?, fields(after)?);
    let mut all = Vec::new();
    let names: BTreeSet<_> = before.keys().chain(after.keys()).collect();
    for name in names {
        let (was, is) = (before.get(name), after.get(name));
        let known = |side: Option<&Fields>| side.map(|fields| fields.name.clone());
        let Some(record) = known(is).or_else(|| known(was)) else { continue };
        let keys = |side: Option<&Fields>| side.map(|fields| fields.whole.keys().cloned().collect::<Vec<_>>());
        let keys: BTreeSet<_> = keys(was).into_iter().chain(keys(is)).flatten().collect();
        for field in keys {
            let whole = |side: Option<&Fields>| side.and_then(|fields| fields.whole.get(&field).cloned());
            if whole(was) == whole(is) {
                continue;
            }
            let masked = |side: Option<&Fields>| side.and_then(|fields| fields.masked.get(&field).cloned());
            let secret = masked(was) != whole(was) || masked(is) != whole(is);
            all.push(FieldChange { record: record.clone(), before: masked(was), after: masked(is), field, secret });
        }
    }
    Ok(all)
}

fn fields(rows: &Rows) -> Result<BTreeMap<String, Fields>, RecordsError> {
    let mut masked = rows.clone();
    masked.secrets(|_, sealed| {
        *sealed = Sealed::masked();
        Ok(())
    })?;
    let lists = |rows: &Rows| -> Vec<Map<String, Value>> {
        let Ok(Value::Object(kinds)) = serde_json::to_value(rows) else { return Vec::new() };
        // In the order of the kinds among the fields of rows, which names follow too.
        ORDER
            .iter()
            .filter_map(|kind| kinds.get(*kind)?.as_array())
            .flatten()
            .filter_map(|row| row.as_object().cloned())
            .collect()
    };
    // A range of devices is one row and stands under its first address.
    let names = first_names(rows);
    let all = names.into_iter().zip(lists(rows)).zip(lists(&masked)).take(MOST);
    Ok(all.map(|((name, whole), masked)| (name.folded().path(), Fields { name, whole, masked })).collect())
}

const ORDER: [&str; 11] = [
    "stores",
    "nases",
    "people",
    "machines",
    "devices",
    "certificates",
    "trusts",
    "administrators",
    "languages",
    "named_secrets",
    "common_names",
];

fn first_names(rows: &Rows) -> Vec<RecordName> {
    let single = |row: &crate::rows::DeviceRow| crate::rows::DeviceRow { last: row.first, ..row.clone() };
    let devices = rows.devices.iter().take(MOST).map(single).collect();
    Rows { devices, ..rows.clone() }.names().collect()
}
