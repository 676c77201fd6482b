//! Who vouches for servers that are asked.

use std::sync::Arc;

use rustls::crypto::aws_lc_rs::default_provider;
use rustls::{ClientConfig, RootCertStore};

/// How TLS is spoken with servers whose certificates these authorities (in DER) issued; the
/// system's where none are named. Nobody is believed where what is named cannot be read.
pub fn client_tls(authorities: Option<&[Vec<u8>]>) -> Arc<ClientConfig> {
    let mut roots = RootCertStore::empty();
    match authorities {
        Some(authorities) => {
            roots.add_parsable_certificates(authorities.iter().map(|der| der.clone().into()));
        }
        None => {
            roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
    }
    let builder = ClientConfig::builder_with_provider(Arc::new(default_provider()))
        .with_safe_default_protocol_versions()
        .expect("the provider knows TLS 1.2 and 1.3");
    Arc::new(builder.with_root_certificates(roots).with_no_client_auth())
}
