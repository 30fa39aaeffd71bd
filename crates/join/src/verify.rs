//! TLS towards a desk: its certificate must lead to a root that is known, or, for the one question of which roots there are, to nobody's.

use std::sync::Arc;

use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use tidy_warden_core::certificate::Certificate;

use crate::{JoinError, Proof, own};

/// Whom a desk's certificate must lead to.
pub(crate) enum Roots<'r> {
    /// One of these.
    These(&'r [Certificate]),
    /// Nobody: nothing is said on such a connection that a stranger may not hear, and nothing believed that is not compared with
    /// something else.
    Nobody,
}

pub(crate) fn config(roots: Roots<'_>, proof: &Proof) -> Result<ClientConfig, JoinError> {
    let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    let builder = ClientConfig::builder_with_provider(provider.clone()).with_safe_default_protocol_versions()?;
    let builder = match roots {
        Roots::These(roots) => {
            let mut store = RootCertStore::empty();
            for root in roots {
                store.add(CertificateDer::from(root.der().to_vec()))?;
            }
            builder.with_root_certificates(store)
        }
        Roots::Nobody => builder.dangerous().with_custom_certificate_verifier(Arc::new(Anybody(provider))),
    };
    let mut config = match proof {
        Proof::Certificate(chain, key) => {
            builder.with_client_cert_resolver(own::resolver(chain, key.clone()).ok_or(JoinError::Key)?)
        }
        Proof::None | Proof::Secret(..) => builder.with_no_client_auth(),
    };
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Ok(config)
}

/// Takes any certificate whose key is proved.
#[derive(Debug)]
struct Anybody(Arc<CryptoProvider>);

impl ServerCertVerifier for Anybody {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, certificate, signed, &self.0.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, certificate, signed, &self.0.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}
