//! What a decision leaves, and what a person reads of it.
//!
//! A [`Decision`] comes with its [`Exchange`], whatever protocol that is of; [`Evidence`] is what is kept of it, typed
//! and versioned. Sentences, trails and advice are made of it by [`Record`] when somebody reads. What equipment reports
//! of the access that it gives is an [`AccountingRecord`], what could not become a request an [`UnheardRecord`].

mod decision;
mod evidence;
mod exchange;
mod heard;
mod record;
mod report;
mod stored;
mod time;
mod unheard;
mod what_if;
mod whereabouts;

pub use decision::Decision;
pub use evidence::{Evidence, Subject};
pub use exchange::{
    DecidingEdition, Exchange, KeptExchange, Protocol, ProtocolAdvice, ProtocolReader, Protocols, ShownExchange,
    ShownReply,
};
pub use heard::HeardMarks;
pub use record::accounting::{AccountingRecord, FoundDecision};
pub use record::sentence::{Fragment, FragmentKind};
pub use record::trail::{Clue, Mark, Station, Trail};
pub use record::{EndRecord, Record, RuleRecord, TestRecord, VerdictRecord};
pub use report::{Report, ReportStatus};
pub use stored::Unreadable;
pub use unheard::{Cause, Service, UnheardRecord};
pub use what_if::{KeptFact, NoCase, WhatIf, WhatIfAnswer, case_of, facts_of};
pub use whereabouts::Whereabouts;
