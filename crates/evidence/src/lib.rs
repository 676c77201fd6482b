//! What a decision leaves, and what a person reads of it.
//!
//! [`Evidence`] is typed and versioned; sentences, trails and advice are made of it by
//! [`Record`] when somebody reads.

mod evidence;
mod record;
mod stored;
mod time;
mod what_if;

pub use evidence::{Evidence, Reply, Subject};
pub use record::accounting::{AccountingRecord, FoundDecision};
pub use record::sentence::{Fragment, FragmentKind};
pub use record::trail::{Clue, Mark, Station, Trail};
pub use record::unheard::UnheardRecord;
pub use record::{EndRecord, Record, RuleRecord, TestRecord, VerdictRecord};
pub use stored::Unreadable;
pub use what_if::{KeptFact, NoCase, WhatIf, WhatIfAnswer, case_of, facts_of};
