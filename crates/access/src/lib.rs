//! One decision, from a datagram to a signed reply and the record of why.
//!
//! This crate names no runtime, no database and no HTTP; stores are asked
//! through [`Stores`], whose answers may be awaited, and the clock comes in as an
//! argument. Read [`hear`] first, which turns a datagram into a request or says
//! why it cannot, then [`decide`], then [`Dialogue`], which is how EAP goes on.

mod decide;
mod eap;
mod edition;
mod evidence;
mod facts;
mod guesses;
mod hear;
mod lookup;
mod nas;
mod proof;
mod record;
mod render;
mod reply;
mod stores;
mod time;

pub use decide::{Decision, Desk, End, Outcome, Setting, Verdict, decide};
pub use eap::dialogue::Dialogue;
pub use eap::machines::{Machines, SeenMachine};
pub use eap::offers::{GateOffers, Materials, OfferProblem, Presentable, TrustMaterial};
pub use eap::sessions::SessionTable;
pub use edition::{Edition, GrantProblem};
pub use evidence::eap::{CertificateEvidence, EapEvidence, FailureEvidence, InnerEvidence, RoundEvidence, TlsEvidence};
pub use evidence::{Evidence, Reply, Subject, Unreadable};
pub use facts::table::{FactCode, FactTable};
pub use guesses::{GuessTable, Guesser, Guesses, Held, NobodyGuesses, Wait};
pub use hear::{Cause, Heard, hear};
pub use lookup::{Asked, LookUp, LookUpAnswer, Right};
pub use nas::{Nas, NasKind, NasTable, Network};
pub use record::sentence::{Fragment, FragmentKind};
pub use record::trail::{Clue, Mark, Station, Trail};
pub use record::unheard::UnheardRecord;
pub use record::{EndRecord, Record, RuleRecord, TestRecord, VerdictRecord};
pub use render::dialect::{Dialect, DialectError};
pub use stores::{Account, Answer, Device, Groups, Responders, Stores, Unreachable};
