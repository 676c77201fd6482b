use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::server::credential::IdentityType;
use crate::tls::TlsAbout;
use crate::wire::kind::Kind;

/// What is known of a conversation, for facts and for the trail.
#[derive(Clone, Debug, Default)]
pub struct About {
    /// The identity told outside any tunnel; often anonymous.
    pub identity: Option<String>,
    /// The method that was agreed on, or tried last.
    pub method: Option<Kind>,
    /// Methods that the peer turned down, with what it wanted instead.
    pub turned_down: Vec<(Kind, Vec<Kind>)>,
    /// The TLS connection of the method.
    pub tls: Option<Arc<TlsAbout>>,
    /// What happened inside the tunnel, in order.
    pub inner: Vec<Inner>,
    /// Whether the two ends proved to each other that tunnel and inner method
    /// belong together; `None` where the method has no such proof.
    pub bound: Option<bool>,
}

/// One inner method.
#[derive(Clone, Debug)]
pub struct Inner {
    /// Whom it is about, where the tunnel says so.
    pub identity_type: Option<IdentityType>,
    /// The method: `eap-mschapv2`, `pap` and so on; `none` before it is agreed.
    pub method: String,
    /// The identity told inside the tunnel.
    pub identity: Option<String>,
    /// The TLS connection of an inner EAP-TLS.
    pub tls: Option<Arc<TlsAbout>>,
    /// How it went.
    pub outcome: InnerOutcome,
}

/// How an inner method went.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum InnerOutcome {
    /// It is not over.
    Open,
    /// The credential is right.
    Proved,
    /// It is not.
    Failed,
}

impl About {
    /// The inner method in progress.
    pub(crate) fn inner_now(&mut self) -> Option<&mut Inner> {
        self.inner.last_mut()
    }

    pub(crate) fn begin_inner(&mut self, identity_type: Option<IdentityType>) {
        let outcome = InnerOutcome::Open;
        self.inner.push(Inner { identity_type, method: "none".into(), identity: None, tls: None, outcome });
    }

    pub(crate) fn end_inner(&mut self, proved: bool) {
        if let Some(inner) = self.inner_now().filter(|inner| inner.outcome == InnerOutcome::Open) {
            inner.outcome = if proved { InnerOutcome::Proved } else { InnerOutcome::Failed };
        }
    }
}
