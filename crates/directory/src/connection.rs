//! One connection to one server.

use std::time::Duration;

use ldap3::adapters::{Adapter, PagedResults};
use ldap3::{Ldap, LdapConnAsync, LdapConnSettings, Scope, SearchOptions};
use regnant_base::Secret;
use regnant_outside::Way;
use tokio::time::timeout;

use crate::answers::{Trouble, ended, trouble, words};
use crate::entry::Entry;
use crate::settings::Transport;
use crate::wire::{self, Wire};

/// Entries that come at a time where all are wanted.
const PAGE: i32 = 500;
/// How long a connection may take, TLS and all.
const CONNECT: Duration = Duration::from_millis(1_500);

/// Where a connection goes.
#[derive(Clone)]
pub(crate) struct Address {
    /// As people wrote it.
    pub(crate) url: String,
    pub(crate) host: String,
    pub(crate) port: u16,
    pub(crate) transport: Transport,
    pub(crate) way: Way,
}

/// A question for entries.
#[derive(Clone, Debug)]
pub(crate) struct Question {
    pub(crate) base: String,
    pub(crate) scope: Scope,
    pub(crate) filter: String,
    pub(crate) attributes: Vec<String>,
    /// More than these are not read.
    pub(crate) most: usize,
}

/// Connects; nobody is bound yet. With the certificate that the server showed.
pub(crate) async fn connect(address: &Address) -> Result<(Ldap, Option<Vec<u8>>), Trouble> {
    let connecting = async {
        let Wire { stream, certificate } = wire::connect(address).await?;
        let settings = LdapConnSettings::new().set_std_stream(stream);
        let (connection, ldap) = LdapConnAsync::with_settings(settings, "ldapi:///").await?;
        Ok((connection, ldap, certificate))
    };
    let late = || Trouble::Late { server: address.url.clone(), seconds: CONNECT.as_secs() + 1 };
    let connected = timeout(CONNECT, connecting).await.map_err(|_| late())?;
    let (connection, ldap, certificate) = connected.map_err(|error| trouble(&address.url, &error))?;
    let url = address.url.clone();
    tokio::spawn(async move {
        if let Err(error) = connection.drive().await {
            tracing::debug!("the connection to {url} ended: {error}");
        }
    });
    Ok((ldap, certificate))
}

/// Binds a connection as the account that searches; as nobody where that has no name.
pub(crate) async fn bind_to_search(ldap: &mut Ldap, url: &str, name: &str, password: &Secret) -> Result<(), Trouble> {
    if name.is_empty() {
        return Ok(());
    }
    let refused = |why: &str| Trouble::Bind { server: url.to_owned(), name: name.to_owned(), why: why.to_owned() };
    // An empty password would bind as nobody, and say that it went well (RFC 4513 section 5.1.2).
    let password = std::str::from_utf8(password.expose()).map_err(|_| refused("its password is no text"))?;
    if password.is_empty() {
        return Err(refused("it has no password"));
    }
    let bound = ldap.simple_bind(name, password).await.map_err(|error| trouble(url, &error))?;
    match bound.rc {
        0 => Ok(()),
        _ => Err(refused(&words(&bound))),
    }
}

/// Every entry that answers a question, page after page (RFC 2696), up to as many as are wanted.
pub(crate) async fn search_all(ldap: &mut Ldap, url: &str, question: &Question) -> Result<Vec<Entry>, Trouble> {
    let told = |error: &ldap3::LdapError| trouble(url, error);
    let adapters: Vec<Box<dyn Adapter<_, _>>> = vec![Box::new(PagedResults::new(PAGE))];
    let Question { base, scope, filter, attributes, most } = question;
    let asked = ldap.streaming_search_with(adapters, base, *scope, filter, attributes.clone()).await;
    let mut stream = asked.map_err(|error| told(&error))?;
    let mut entries = Vec::new();
    while let Some(entry) = stream.next().await.map_err(|error| told(&error))? {
        if !entry.is_intermediate() && !entry.is_ref() && entries.len() < *most {
            entries.push(Entry::read(entry.0).ok_or_else(|| Trouble::Nonsense(url.to_owned()))?);
        }
    }
    let result = stream.finish().await;
    match result.rc {
        0 => Ok(entries),
        _ => Err(ended(url, base, &result)),
    }
}

/// Entries that answer a question, as many as are wanted at most.
pub(crate) async fn search(ldap: &mut Ldap, url: &str, question: &Question) -> Result<Vec<Entry>, Trouble> {
    let told = |error: &ldap3::LdapError| trouble(url, error);
    let most = i32::try_from(question.most).unwrap_or(i32::MAX);
    ldap.with_search_options(SearchOptions::new().sizelimit(most));
    let asked = ldap.streaming_search(&question.base, question.scope, &question.filter, &question.attributes).await;
    let mut stream = asked.map_err(|error| told(&error))?;
    let mut entries = Vec::new();
    while let Some(entry) = stream.next().await.map_err(|error| told(&error))? {
        // A directory that holds the top of a tree refers to its other parts at every question: what
        // is elsewhere is not looked for.
        if entry.is_intermediate() || entry.is_ref() {
            continue;
        }
        entries.push(Entry::read(entry.0).ok_or_else(|| Trouble::Nonsense(url.to_owned()))?);
        if entries.len() >= question.most {
            let (handle, id) = (stream.ldap_handle().clone(), stream.ldap_handle().last_id());
            drop(stream);
            let mut handle = handle;
            handle.abandon(id).await.map_err(|error| told(&error))?;
            return Ok(entries);
        }
    }
    let result = stream.finish().await;
    match result.rc {
        0 => Ok(entries),
        _ => Err(ended(url, &question.base, &result)),
    }
}
