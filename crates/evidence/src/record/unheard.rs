use serde::{Deserialize, Serialize};

use crate::record::sentence::{Fragment, FragmentKind};
use regnant_equipment::Cause;

/// Packets of one sender that could not become requests for one cause.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct UnheardRecord {
    /// The entry's id, a ULID of the first packet's time.
    pub id: String,
    /// When the first came, in milliseconds since 1970 (UTC).
    pub first: u64,
    /// When the last came.
    pub last: u64,
    /// How many came.
    pub count: u64,
    /// The sender's address.
    pub source: String,
    /// The NAS that has this address, where one has.
    pub nas: Option<String>,
    /// Why.
    pub cause: Cause,
}

impl UnheardRecord {
    /// The entry as a sentence, without its time.
    pub fn sentence(&self) -> Vec<Fragment> {
        let part = |kind, text: String| Fragment { kind, text };
        let packets = if self.count == 1 { "1 packet".into() } else { format!("{} packets", self.count) };
        let mut parts = vec![
            part(FragmentKind::Text, format!("{packets} from ")),
            part(FragmentKind::Subject, self.source.clone()),
        ];
        if let Some(nas) = &self.nas {
            parts.extend([part(FragmentKind::Text, " (".into()), part(FragmentKind::Nas, nas.clone())]);
            parts.push(part(FragmentKind::Text, ")".into()));
        }
        parts.push(part(FragmentKind::Verdict, " stayed unheard".into()));
        parts.push(part(FragmentKind::Text, format!(": {}.", self.cause)));
        parts
    }
}
