//! One decision, from a datagram to a signed reply and the record of why.
//!
//! This crate names no runtime, no database and no HTTP; stores are asked
//! through [`Store`], whose answers may be awaited, and the clock comes in as an
//! argument. Read [`accept`] first, which turns a datagram into a request or says
//! why it cannot, then [`decide`], then [`EapSession`], which is how EAP goes on.

mod accept;
mod decide;
mod eap;
mod edition;
mod ending;
mod evidence;
mod facts;
mod guesses;
mod lookup;
mod nas;
mod proof;
mod record;
mod render;
mod reply;
mod stores;
mod time;

pub use accept::{AcceptedRequest, Cause, accept};
pub use decide::{ActivePolicy, Decision, Handled, Resources, decide};
pub use eap::machines::{Machines, SeenMachine};
pub use eap::offers::{CertificateMaterial, GateOffers, OfferProblem, Presentable, TrustMaterial};
pub use eap::resumption::ResumptionTable;
pub use eap::session::EapSession;
pub use edition::{Edition, GrantProblem};
pub use ending::{Because, Decider, Ending, EntryKind, Unfit};
pub use evidence::eap::{CertificateEvidence, EapEvidence, FailureEvidence, InnerEvidence, RoundEvidence, TlsEvidence};
pub use evidence::{Evidence, Reply, Subject, Unreadable};
pub use facts::table::{FactCode, FactTable};
pub use guesses::{GuessTable, Guesser, Guesses, Held, Wait};
pub use lookup::{Asked, LookUp, LookUpAnswer, Right};
pub use nas::{Nas, NasKind, NasTable, Network};
pub use record::sentence::{Fragment, FragmentKind};
pub use record::trail::{Clue, Mark, Station, Trail};
pub use record::unheard::UnheardRecord;
pub use record::{EndRecord, Record, RuleRecord, TestRecord, VerdictRecord};
pub use render::dialect::{Dialect, DialectError};
pub use stores::{
    Account, Answer, BoundStores, Capabilities, Device, Groups, MsChapAnswer, Responders, Store, StoreRegistry,
    StoreReply, Timer, Unreachable,
};
