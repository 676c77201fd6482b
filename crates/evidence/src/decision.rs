use std::sync::Arc;
use std::time::Duration;

use regnant_decision::Decided;
use ulid::Ulid;

use crate::exchange::{DecidingEdition, Exchange};

/// One decision with all that led to it, on its way to whoever keeps it.
#[derive(Debug)]
pub struct Decision {
    /// Its id; it begins with the time.
    pub id: Ulid,
    /// What was asked and what goes back.
    pub exchange: Box<dyn Exchange>,
    /// The edition that decided.
    pub edition: Arc<dyn DecidingEdition>,
    /// What was decided.
    pub decided: Decided,
    /// Time since the request came, when the reply was made.
    pub replied_at: Duration,
}
