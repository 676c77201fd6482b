//! One decision, whatever protocol asks: facts, gate, proof, rules, ending.
//!
//! This crate knows no packet of any equipment, no attribute number, no reply; it names no
//! runtime, no database and no HTTP. Stores are asked through [`Store`], whose answers may
//! be awaited, and the clock comes in as an argument. Read [`Request`] first, which is what
//! an adapter makes of a packet, then [`decide`] and [`Ending`], then [`EapSession`], which
//! is how EAP goes on.

mod added;
mod decide;
mod eap;
mod ending;
mod facts;
mod guesses;
mod lookup;
mod proof;
mod request;
mod stores;

pub use added::{Added, AddedFacts};
pub use decide::{ActivePolicy, Decided, Resources, Times, decide};
pub use eap::evidence::{CertificateEvidence, EapEvidence, FailureEvidence, InnerEvidence, RoundEvidence, TlsEvidence};
pub use eap::machines::{Machines, SeenMachine};
pub use eap::offers::{CertificateMaterial, GateOffers, OfferProblem, Presentable, TrustMaterial};
pub use eap::resumption::ResumptionTable;
pub use eap::session::{Carriage, EapSession, Progress};
pub use ending::{Because, Decider, Ending, EntryKind, Unfit};
pub use facts::attribute::{AttributeKind, IdentityAttribute, KnownAttributes};
pub use facts::request_facts::{DeviceLookUp, Findings, Identity, ProofDetails, Proved, RequestFacts};
pub use facts::table::{FactCode, FactTable};
pub use guesses::{Admission, GuessTable, Guesser, Guesses, Held, Wait};
pub use lookup::{Asked, LookUp, LookUpAnswer, Right};
pub use request::{
    Carrier, KeptRequest, Medium, NasIdentity, NasKind, NoName, Presented, ProtocolFacts, Purpose, Request,
};
pub use stores::{
    Account, Answer, BoundStores, Capabilities, Device, Found, GroupNames, Groups, KeptCertificate, LogonAccount,
    MsChapAnswer, NoAnswer, PasswordAnswer, Recovered, Responders, Store, StoreRegistry, StoreReply, Timer, Title,
    Titles, Unable,
};
