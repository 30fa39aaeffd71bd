//! TLS to the database: the server's certificate leads to roots that were named, and bears its name (`verify-full`).

use std::sync::Arc;

use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};
use tokio_postgres_rustls::MakeRustlsConnect;

use crate::StoreError;

/// What makes TLS connections to servers whose certificates lead to `roots`, PEM.
pub(super) fn connector(roots: Option<&[u8]>) -> Result<MakeRustlsConnect, StoreError> {
    let failed = |detail: String| StoreError::Unsafe { detail };
    let pem =
        roots.ok_or_else(|| failed("no certificates are named that its own must lead to (sslrootcert)".to_owned()))?;
    let mut store = RootCertStore::empty();
    for certificate in CertificateDer::pem_slice_iter(pem) {
        let certificate = certificate.map_err(|error| failed(format!("sslrootcert is not PEM: {error}")))?;
        store.add(certificate).map_err(|error| failed(format!("sslrootcert: {error}")))?;
    }
    if store.is_empty() {
        return Err(failed("sslrootcert has no certificate in PEM".to_owned()));
    }
    let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| failed(error.to_string()))?
        .with_root_certificates(store)
        .with_no_client_auth();
    Ok(MakeRustlsConnect::new(config))
}
