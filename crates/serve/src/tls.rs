//! TLS towards devices: the chain and the key are proved in the handshake; everything else is checked at CONNECT.

use std::sync::Arc;

use rustls::client::danger::HandshakeSignatureValid;
use rustls::crypto::{WebPkiSupportedAlgorithms, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, PrivatePkcs8KeyDer, UnixTime as TlsTime};
use rustls::server::danger::{ClientCertVerified, ClientCertVerifier};
use rustls::{CertificateError, DigitallySignedStruct, DistinguishedName, ServerConfig, SignatureScheme};
use tidy_warden_core::certificate::{Certificate, ChainError};
use tidy_warden_core::time::Clock;
use tokio_rustls::TlsAcceptor;

use crate::trust::TrustHolder;

/// What a server shows of itself.
pub struct TlsSettings {
    /// Its certificate and those that it sends along, leaf first.
    pub chain: Vec<Certificate>,
    /// Its key, PKCS#8 in DER.
    pub key: PrivatePkcs8KeyDer<'static>,
    /// Whether a client may come without a certificate, to show a token.
    pub allow_anonymous: bool,
}

/// A server's own certificate or key cannot be used.
#[derive(Debug, thiserror::Error)]
#[error("its own certificate and key cannot be used for TLS: {0}")]
pub struct TlsError(#[from] rustls::Error);

/// Whether clients come back often enough that their TLS sessions are worth remembering.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Resumption {
    /// So many of them, for clients that connect again and again.
    Of(usize),
    /// None: each handshake is a full one, and nothing is kept after it.
    None,
}

/// What accepts connections: one for each of `protocols`, which are ALPN names (RFC 7301), with the same certificate and judge.
///
/// TLS 1.2 and 1.3, no early data. Sessions can be resumed as `resumption` says (stateful, in memory): the certificate's chain is not judged
/// again then, so whoever receives the connection must ask [`Trust::judge`](crate::trust::Trust::judge) itself, and who the device is and what it may
/// do. Who was trusted before a change of settings cannot resume after it.
///
/// # Errors
/// Certificate and key do not go together.
pub fn acceptors<const N: usize>(
    settings: TlsSettings,
    protocols: [&str; N],
    resumption: Resumption,
    clock: Arc<dyn Clock>,
    trust: Arc<TrustHolder>,
) -> Result<[TlsAcceptor; N], TlsError> {
    let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    let verifier = Arc::new(DeviceVerifier {
        trust,
        mandatory: !settings.allow_anonymous,
        algorithms: provider.signature_verification_algorithms,
        clock,
    });
    let chain = settings.chain.iter().map(|each| CertificateDer::from(each.der().to_vec())).collect();
    let mut config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()?
        .with_client_cert_verifier(verifier)
        .with_single_cert(chain, settings.key.into())?;
    config.max_early_data_size = 0;
    // One ticket is enough for a client that comes back; each costs work and memory.
    config.send_tls13_tickets = usize::from(resumption != Resumption::None);
    Ok(protocols.map(|protocol| {
        let mut config = config.clone();
        config.session_storage = match resumption {
            Resumption::Of(count) => rustls::server::ServerSessionMemoryCache::new(count),
            Resumption::None => Arc::new(rustls::server::NoServerSessionStorage {}),
        };
        config.alpn_protocols = vec![protocol.as_bytes().to_vec()];
        TlsAcceptor::from(Arc::new(config))
    }))
}

struct DeviceVerifier {
    trust: Arc<TrustHolder>,
    mandatory: bool,
    algorithms: WebPkiSupportedAlgorithms,
    clock: Arc<dyn Clock>,
}

impl std::fmt::Debug for DeviceVerifier {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "DeviceVerifier(generation {} of the authorities)", self.trust.now().generation)
    }
}

/// The alert that fits the fault.
fn alert(error: &ChainError) -> CertificateError {
    match error {
        ChainError::UnknownIssuer { .. } => CertificateError::UnknownIssuer,
        ChainError::Signature { .. } => CertificateError::BadSignature,
        ChainError::Validity { from, now, .. } if now < from => CertificateError::NotValidYet,
        ChainError::Validity { .. } => CertificateError::Expired,
        ChainError::Purpose { .. } => CertificateError::InvalidPurpose,
        ChainError::UnknownCritical { .. } => CertificateError::UnhandledCriticalExtension,
        _ => CertificateError::ApplicationVerificationFailure,
    }
}

impl ClientCertVerifier for DeviceVerifier {
    fn root_hint_subjects(&self) -> &[DistinguishedName] {
        // No names of authorities: a pinned certificate has none of them as its issuer, and a client that goes by the
        // names would not show it.
        &[]
    }

    fn client_auth_mandatory(&self) -> bool {
        self.mandatory
    }

    fn verify_client_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        _intermediates: &[CertificateDer<'_>],
        _now: TlsTime,
    ) -> Result<ClientCertVerified, rustls::Error> {
        // Intermediates that the client sends are not needed: the ward knows its authorities. The ward's clock counts.
        let leaf = Certificate::from_der(end_entity)
            .map_err(|_| rustls::Error::InvalidCertificate(CertificateError::BadEncoding))?;
        match self.trust.now().judge(&leaf, self.clock.now()) {
            Ok(()) => Ok(ClientCertVerified::assertion()),
            Err(error) => Err(rustls::Error::InvalidCertificate(alert(&error))),
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, certificate, signed, &self.algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, certificate, signed, &self.algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.algorithms.supported_schemes()
    }
}
