use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;

use regnant_certificates::{Bundle, read_certificates, read_crls};
use regnant_decision::{ActivePolicy, CertificateMaterial, GateOffers, Presentable, TrustMaterial};
use regnant_eap::{Judgement, Trust};
use regnant_equipment::radius::{Credentials, FormerSecret};
use regnant_equipment::{ActiveEdition, Edition, NamedSecrets, Nas, NasTable};
use regnant_outside::Never;
use regnant_policy::{Compiled, Source};
use regnant_radius::{Secret, SharedSecret};
use regnant_records::{
    CertificateRow, FetchedLists, HashPool, LocalStores, NasRow, Reading, RecordName, Records, RecordsError,
    SealingKey, SecretRow, TrustRow, Unusable,
};
use tokio::runtime::Handle;

use crate::administration::downloads::Fetched;
use crate::administration::issuers::Issuers;
use crate::administration::policies::FIRST_POLICY;
use crate::administration::renewal::staple_name;
use crate::clock::now_ms;
use crate::console_tls::ConsoleTls;
use crate::heard::HeardOfNases;
use crate::languages::{Languages, edition_of_old};
use crate::outside_stores::OutsideStores;
use crate::snapshot::{CheckedEditions, Left, MOST_EARLIER, Next, Snapshot, bind};
use crate::surroundings::Surroundings;

/// What stays the same for as long as the service runs.
pub(crate) struct Environment {
    pub(crate) key: Arc<SealingKey>,
    pub(crate) pool: HashPool,
    /// Where the records are, and room for what is on its way into them.
    pub(crate) folder: PathBuf,
    /// Revocation lists that were fetched, by trust, and where they are kept for the
    /// next start.
    pub(crate) lists: Fetched,
    pub(crate) list_file: FetchedLists,
    /// OCSP responses about our certificates, by fingerprint.
    pub(crate) staples: Fetched,
    /// Who is asked about others' certificates.
    pub(crate) issuers: Arc<Issuers>,
    /// What is heard of equipment, whatever its records say.
    pub(crate) heard: HeardOfNases,
    /// What console and API present, where they speak TLS.
    pub(crate) console_tls: Option<Arc<ConsoleTls>>,
    /// What drives connections to others.
    pub(crate) runtime: Handle,
    /// Where they never go.
    pub(crate) never: Never,
    /// Policies that were checked a moment ago.
    pub(crate) checked: CheckedEditions,
}

impl Environment {
    /// The snapshot of all that the records hold. Only a start needs it.
    pub(crate) fn snapshot(&self, records: &Records) -> Result<Snapshot, RecordsError> {
        let active = records.active_number()?;
        let stores = LocalStores::of(records, self.key.clone(), self.pool.clone())?;
        let mut snapshot = Next::all(self, self.nothing(), stores, records.all()?, active).of(records);
        snapshot.active.earlier = Self::earlier(active, records);
        Ok(snapshot)
    }

    /// Nothing is configured.
    fn nothing(&self) -> Snapshot {
        let (stores, languages) = (LocalStores::new(self.key.clone(), self.pool.clone()), Languages::shipped());
        let edition = Arc::new(refusing(0, &languages));
        let (policy, table) = (edition.policy.clone(), edition.vocabulary.table().clone());
        let bound = bind(&edition, &stores.registry());
        let policy = ActivePolicy { policy, table, offers: Arc::default(), stores: bound };
        Snapshot {
            nases: Arc::new(NasTable::default()),
            active: ActiveEdition { edition, policy, secrets: NamedSecrets::default(), earlier: Arc::default() },
            stores: Arc::new(stores),
            outside: Arc::default(),
            languages: Arc::new(languages),
            left: Arc::new(Left::default()),
        }
    }

    /// Editions before the active one, the newest first, under which access may last. Of one that cannot be read
    /// equipment is refused its lists.
    pub(super) fn earlier(active: u32, records: &impl Reading) -> Arc<[Arc<Edition>]> {
        let read = |number| match records.edition(number) {
            Ok(found) => found.and_then(|(row, basis)| edition_of_old(&row, &basis)).map(Arc::new),
            Err(error) => {
                tracing::warn!(
                    "edition {number}, whose access lists equipment may still ask for, cannot be read: {error}"
                );
                None
            }
        };
        (1..active).rev().take(MOST_EARLIER).filter_map(read).collect()
    }

    /// A NAS with its secrets opened. One whose secret cannot be opened is given one that nobody has, and signs: none
    /// of its packets counts.
    pub(super) fn nas(&self, row: &NasRow) -> (Nas, Option<Unusable>) {
        let shared = |secret: Secret| SharedSecret::new(secret.expose());
        let opened = row.shared_secret(&self.key).and_then(|secret| {
            let former = row.former_secret(&self.key)?.map(shared).zip(row.radius.former_secret.as_ref());
            let former = former.map(|(secret, row)| FormerSecret {
                secret,
                since: row.since.cast_unsigned(),
                until: row.until.cast_unsigned(),
            });
            Ok((shared(secret), former))
        });
        let unusable = opened.as_ref().err().map(|why| Unusable::new(RecordName::Nas(row.name.clone()), why));
        let (secret, former) = opened.unwrap_or_else(|_| (SharedSecret::new(nobodys()), None));
        let credentials = Credentials {
            secret,
            former,
            require_message_authenticator: row.radius.require_message_authenticator || unusable.is_some(),
            class_at_login: row.radius.class_at_login,
        };
        let nas = Nas { heard: self.heard.of(&row.name), ..Nas::new(row.identity(), row.networks.clone()) };
        (nas.with_radius(credentials), unusable)
    }

    /// Dictionaries, dialects and attributes of the records; those of before where they cannot be read.
    pub(super) fn languages(before: &Arc<Languages>, records: &impl Reading) -> (Arc<Languages>, Vec<Unusable>) {
        match Languages::of_records(records) {
            Ok((languages, left_out)) => (Arc::new(languages), left_out),
            Err(error) => (before.clone(), vec![Unusable::new("dictionaries and dialects", error)]),
        }
    }

    /// The stores outside that the records name; those of before where they cannot be read.
    pub(super) fn outside(
        &self,
        before: &Arc<OutsideStores>,
        languages: &Languages,
        records: &impl Reading,
    ) -> (Arc<OutsideStores>, Vec<Unusable>) {
        let declared = languages.vocabulary.table().attributes();
        match before.refreshed(records, &self.key, declared, (&self.runtime, &self.never)) {
            Ok((outside, unusable)) => (Arc::new(outside), unusable),
            Err(error) => (before.clone(), vec![Unusable::new("stores outside", error)]),
        }
    }

    /// The secrets of the records, opened; one that cannot be is nobody's.
    pub(super) fn secrets(&self, before: &NamedSecrets, records: &impl Reading) -> (NamedSecrets, Vec<Unusable>) {
        let rows = match records.all::<SecretRow>() {
            Ok(rows) => rows,
            Err(error) => return (before.clone(), vec![Unusable::new("secrets", error)]),
        };
        let (mut opened, mut unusable) = (Vec::new(), Vec::new());
        for row in rows {
            match row.open(&self.key) {
                Ok(secret) => opened.push((row.name, secret)),
                Err(error) => unusable.push(Unusable::new(RecordName::Secret(row.name), error)),
            }
        }
        (NamedSecrets::new(opened), unusable)
    }

    /// An edition of the records, ready to decide. Where it does not check with what this node knows of equipment it
    /// is what it was when it was checked; where that is not known here either, nobody comes in.
    pub(super) fn edition(
        &self,
        number: u32,
        around: &Snapshot,
        records: &impl Reading,
    ) -> (Arc<Edition>, Option<Unusable>) {
        let unusable = |why: &dyn std::fmt::Display| Unusable::new(format_args!("edition {number}"), why);
        let (row, basis) = match records.edition(number) {
            Ok(Some(found)) => found,
            Ok(None) => return (Arc::new(refusing(number, &around.languages)), Some(unusable(&"it is not kept"))),
            Err(error) => return (Arc::new(refusing(number, &around.languages)), Some(unusable(&error))),
        };
        if row.basis == around.languages.basis().hash()
            && let Ok(names) = Surroundings::of_records(&around.languages, &around.registry(), records)
            && let Ok(edition) = self.checked.numbered(number, &row.files, &names, &around.languages)
        {
            return (Arc::new(edition), None);
        }
        match edition_of_old(&row, &basis) {
            Some(edition) => (Arc::new(edition), None),
            None => {
                let why = "this release cannot read it; bring this node up to date, or activate another edition";
                (Arc::new(refusing(number, &around.languages)), Some(unusable(&why)))
            }
        }
    }

    /// What the gates of an edition offer. A gate whose certificates cannot be used begins no conversation.
    pub(super) fn offers(&self, edition: &Edition, records: &impl Reading) -> (Arc<GateOffers>, Vec<Unusable>) {
        let (materials, mut unusable) = match self.materials(records) {
            Ok(materials) => materials,
            Err(error) => (CertificateMaterial::default(), vec![Unusable::new("certificates", error)]),
        };
        let (offers, problems) = GateOffers::prepare(&edition.policy, &materials);
        let gate = |problem: regnant_decision::OfferProblem| {
            Unusable::new(format_args!("gate `{}`", problem.gate), problem.reason)
        };
        unusable.extend(problems.into_iter().map(gate));
        (Arc::new(offers), unusable)
    }

    /// Certificates and authorities as the records have them. What cannot be read is left out: a gate that needs it
    /// is told then.
    fn materials(&self, records: &impl Reading) -> Result<(CertificateMaterial, Vec<Unusable>), RecordsError> {
        let now = now_ms() / 1_000;
        let (mut certificates, mut unusable) = (HashMap::new(), Vec::new());
        for row in records.all::<CertificateRow>()? {
            let key = match row.private_key(&self.key) {
                Ok(key) => regnant_eap::Secret::new(key.expose()),
                Err(error) => {
                    unusable.push(Unusable::new(RecordName::Certificate(row.name), error));
                    continue;
                }
            };
            if let Ok(bundle) = Bundle::from_pem(&row.chain) {
                let stapled = self.staples.current(&staple_name(&row), now).map(|came| came.bytes);
                certificates.insert(row.name, Presentable { chain: bundle.chain, key, stapled });
            }
        }
        let trusts = records.all::<TrustRow>()?.into_iter().filter_map(|row| {
            let (authorities, mut crls) = (read_certificates(&row.authorities).ok()?, read_crls(&row.crls).ok()?);
            // A fetched list is newer than what was brought.
            crls.splice(..0, self.fetched_list(&row));
            Some((row.name, TrustMaterial { authorities, crls, responder: row.ocsp_url, whatever: row.whatever }))
        });
        let standings = Some(self.issuers.clone() as Arc<dyn regnant_eap::Standings>);
        Ok((CertificateMaterial { certificates, trusts: trusts.collect(), standings }, unusable))
    }

    /// The list that was fetched for a trust, where the trust as it is now still
    /// wants one from there and believes its issuer.
    pub(crate) fn fetched_list(&self, row: &TrustRow) -> Option<Vec<u8>> {
        row.crl_url.as_ref()?;
        let list = self.lists.current(&row.name, now_ms() / 1_000)?.bytes;
        let authorities = read_certificates(&row.authorities).ok()?;
        Trust::whatever(&authorities, std::slice::from_ref(&list), Judgement::default()).ok().map(|_| list)
    }
}

/// A secret that nobody has.
fn nobodys() -> [u8; 32] {
    let mut bytes = [0; 32];
    getrandom::fill(&mut bytes).expect("the system gives random bytes");
    bytes
}

/// An edition under which nobody comes in.
fn refusing(number: u32, languages: &Languages) -> Edition {
    let policy = Compiled::from_source(Source::new("main.writ", FIRST_POLICY), languages.vocabulary.schema());
    let policy = policy.unwrap_or_else(|_| unreachable!("a test checks it"));
    Edition::prepare(number, policy, &languages.dialects, languages.vocabulary.clone())
}
