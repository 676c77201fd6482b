//! How stores outside are asked, as the API has it.

use std::collections::BTreeMap;

use regnant_directory::{DirectorySettings, GroupsBy, Notation};
use regnant_http_source::HttpSettings;
use regnant_outside::{Realms, Told};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How a directory is asked.
#[derive(Clone, Deserialize, Serialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct DirectoryForm {
    /// Its servers, the one that is asked first in front: `ldaps://HOST[:PORT]`, or
    /// `ldap://HOST[:PORT]`, on which TLS is started.
    servers: Vec<String>,
    /// The trust whose authorities issued the servers' certificates; the system's where none.
    trust: Option<String>,
    /// Whom searches are bound as; nobody where it is empty.
    bind_as: String,
    /// The entry below which everything is searched.
    base: String,
    /// What people have in common (RFC 4515); no people are looked up where it is empty.
    person_filter: String,
    /// The attributes by any of which a person is found; the account has the name that stands in
    /// the first of them. `uid` if not said.
    person_names: Vec<String>,
    /// What machines have in common; none are looked up where it is empty.
    machine_filter: String,
    /// The attributes by any of which a machine is found; `cn` if not said.
    machine_names: Vec<String>,
    /// What devices have in common that are kept by their MAC addresses; none are looked up where it
    /// is empty.
    device_filter: String,
    /// The attribute that holds a device's address; `macAddress` if not said.
    device_name: String,
    /// How addresses are written there: `colons`, `hyphens`, `dots` or `bare`; `colons` if not said.
    #[schema(value_type = String)]
    device_notation: Notation,
    /// The attribute that holds an account's certificates, or what tells them from others; none are
    /// known where it is empty.
    certificates: String,
    /// What accounts and devices have in common that are disabled, beside the marks that are known; none where
    /// it is empty.
    disabled_filter: String,
    /// The attribute that holds an account's NT hash, for MS-CHAP; none where it is empty.
    nt_hash: String,
    /// The attribute that holds an account's password in clear; none where it is empty.
    clear_password: String,
    /// `member-of` where accounts say their groups, `search` where groups say their members,
    /// `token-groups` where the directory tells all, the primary group and groups of groups with
    /// them; `member-of` if not said.
    #[schema(value_type = String)]
    groups: GroupsBy,
    /// The entry below which a group counts by its short name; `base` where none.
    group_base: Option<String>,
    /// The attribute that holds the short name of a group; `cn` if not said.
    group_name: String,
    /// Whether groups of groups count too; true if not said.
    nested: bool,
    /// The short name of the Active Directory domain whose controllers check responses of MS-CHAP;
    /// none do where it is empty.
    domain: String,
    /// The account of this machine in that domain, such as `REGNANT$`; `bind_as` is the same account.
    machine_account: String,
    /// The domain's controllers, or `dns:DOMAIN` for those that the DNS names (`dns://SERVER/DOMAIN` at
    /// that DNS server); the hosts of `servers` where none.
    domain_controllers: Vec<String>,
    /// The facts that it tells, each with the attribute that holds it.
    facts: BTreeMap<String, String>,
    /// The realms and domains that it answers for, such as `example.org` and `EXAMPLE\\`; all where
    /// none.
    realms: Vec<String>,
    /// How many seconds an answer is waited for, 1 to 30; 3 if not said.
    time_limit: u16,
    /// For how many seconds accounts and groups are kept, at most 3600; 60 if not said. Proofs
    /// never are.
    keep: u16,
}

impl Default for DirectoryForm {
    fn default() -> Self {
        DirectorySettings::default().into()
    }
}

impl From<DirectoryForm> for DirectorySettings {
    fn from(form: DirectoryForm) -> Self {
        Self {
            servers: form.servers,
            trust: form.trust.filter(|trust| !trust.is_empty()),
            bind_as: form.bind_as,
            base: form.base,
            person_filter: form.person_filter,
            person_names: form.person_names,
            machine_filter: form.machine_filter,
            machine_names: form.machine_names,
            device_filter: form.device_filter,
            device_name: form.device_name,
            device_notation: form.device_notation,
            certificates: form.certificates,
            disabled_filter: form.disabled_filter,
            nt_hash: form.nt_hash,
            clear_password: form.clear_password,
            groups: form.groups,
            group_base: form.group_base.filter(|base| !base.is_empty()),
            group_name: form.group_name,
            nested: form.nested,
            domain: form.domain,
            machine_account: form.machine_account,
            domain_controllers: form.domain_controllers,
            facts: Told(form.facts),
            realms: Realms(form.realms),
            time_limit: form.time_limit,
            keep: form.keep,
        }
    }
}

impl From<DirectorySettings> for DirectoryForm {
    fn from(settings: DirectorySettings) -> Self {
        Self {
            servers: settings.servers,
            trust: settings.trust,
            bind_as: settings.bind_as,
            base: settings.base,
            person_filter: settings.person_filter,
            person_names: settings.person_names,
            machine_filter: settings.machine_filter,
            machine_names: settings.machine_names,
            device_filter: settings.device_filter,
            device_name: settings.device_name,
            device_notation: settings.device_notation,
            certificates: settings.certificates,
            disabled_filter: settings.disabled_filter,
            nt_hash: settings.nt_hash,
            clear_password: settings.clear_password,
            groups: settings.groups,
            group_base: settings.group_base,
            group_name: settings.group_name,
            nested: settings.nested,
            domain: settings.domain,
            machine_account: settings.machine_account,
            domain_controllers: settings.domain_controllers,
            facts: settings.facts.0,
            realms: settings.realms.0,
            time_limit: settings.time_limit,
            keep: settings.keep,
        }
    }
}

/// How a service that tells facts is asked.
#[derive(Clone, Deserialize, Serialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct HttpForm {
    /// Where: `https://HOST[:PORT]/...`, with `{name}` where the name stands.
    url: String,
    /// The trust whose authorities issued its certificate; the system's where none.
    trust: Option<String>,
    /// The header that carries the secret; none where it is empty.
    header: String,
    /// Where a token is had for the secret (OAuth 2.0 client credentials); nowhere where it is empty.
    token_url: String,
    /// Who asks for the token.
    client: String,
    /// What the token is to be good for.
    scope: String,
    /// The facts that it tells, each with where it stands in an answer (JSON Pointer, RFC 6901).
    facts: BTreeMap<String, String>,
    /// The realms and domains that it answers for; all where none.
    realms: Vec<String>,
    /// How many seconds an answer is waited for, 1 to 30; 3 if not said.
    time_limit: u16,
    /// For how many seconds an answer is kept, at most 3600; 60 if not said.
    keep: u16,
}

impl Default for HttpForm {
    fn default() -> Self {
        HttpSettings::default().into()
    }
}

impl From<HttpForm> for HttpSettings {
    fn from(form: HttpForm) -> Self {
        Self {
            url: form.url,
            trust: form.trust.filter(|trust| !trust.is_empty()),
            header: form.header,
            token_url: form.token_url,
            client: form.client,
            scope: form.scope,
            facts: Told(form.facts),
            realms: Realms(form.realms),
            time_limit: form.time_limit,
            keep: form.keep,
        }
    }
}

impl From<HttpSettings> for HttpForm {
    fn from(settings: HttpSettings) -> Self {
        Self {
            url: settings.url,
            trust: settings.trust,
            header: settings.header,
            token_url: settings.token_url,
            client: settings.client,
            scope: settings.scope,
            facts: settings.facts.0,
            realms: settings.realms.0,
            time_limit: settings.time_limit,
            keep: settings.keep,
        }
    }
}
