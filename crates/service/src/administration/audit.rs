//! What was changed, by whom and when, and what this node saw of administrators: two chains, read as one list.

use regnant_records::{AuditEntry, AuditFilter, FieldChange, NodeEntry, RecordName, Verified};

use crate::administration::AdministrationError;
use crate::administration::administrators::Administrators;

/// What is wanted of the audit.
#[derive(Clone, Debug)]
pub(crate) struct WantedAudit {
    pub(crate) before: AuditPlace,
    pub(crate) most: u32,
    /// In small letters.
    pub(crate) words: Vec<String>,
    /// Only what changed this record.
    pub(crate) record: Option<RecordName>,
}

/// A place in the audit: everything below counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct AuditPlace {
    /// Of the changes.
    pub(crate) revision: u64,
    /// Of what this node saw.
    pub(crate) seen: u64,
}

/// An entry of the audit.
#[derive(Clone, Debug)]
pub(crate) enum Audited {
    Change(AuditEntry),
    Seen(NodeEntry),
}

impl AuditPlace {
    /// Behind everything.
    pub(crate) const END: Self = Self { revision: u64::MAX, seen: u64::MAX };
}

impl Administrators {
    /// What was changed and what this node saw, the last first; with where to go on, where there is more.
    pub(crate) fn audit(
        &self,
        wanted: &WantedAudit,
    ) -> Result<(Vec<Audited>, Option<AuditPlace>), AdministrationError> {
        let WantedAudit { before, most, words, record } = wanted;
        let of_one = record.is_some();
        let filter =
            AuditFilter { below: before.revision, most: most + 1, words: words.clone(), record: record.clone() };
        let mut changes = self.committer.records.audit(&filter)?.into_iter().peekable();
        let seen = if of_one { Vec::new() } else { self.seen.entries(before.seen, most + 1, words)? };
        let (mut seen, mut entries, mut place) = (seen.into_iter().peekable(), Vec::new(), *before);
        while entries.len() < *most as usize {
            let is_change = match (changes.peek(), seen.peek()) {
                (Some(change), Some(seen)) => change.at >= seen.at,
                (change, _) => change.is_some(),
            };
            if is_change {
                let Some(change) = changes.next() else { break };
                place.revision = change.revision;
                entries.push(Audited::Change(change));
            } else {
                let Some(entry) = seen.next() else { break };
                place.seen = entry.number;
                entries.push(Audited::Seen(entry));
            }
        }
        let more = changes.peek().is_some() || seen.peek().is_some();
        Ok((entries, more.then_some(place)))
    }

    /// Where a change stands, among all that was changed and seen before it.
    pub(crate) fn audit_place(&self, revision: u64) -> Result<AuditPlace, AdministrationError> {
        let at = self.committer.records.audit_entry(revision)?.map_or(u64::MAX, |(entry, _)| entry.at);
        Ok(AuditPlace { revision, seen: self.seen.first_after(at)? })
    }

    /// A change, field by field.
    pub fn audit_entry(&self, revision: u64) -> Result<Option<(AuditEntry, Vec<FieldChange>)>, AdministrationError> {
        Ok(self.committer.records.audit_entry(revision)?)
    }

    /// Whether changes, and what this node saw, are what was written.
    pub(crate) fn verify(&self) -> Result<(Verified, Verified), AdministrationError> {
        Ok((self.committer.records.verify()?, self.seen.verify()?))
    }
}
