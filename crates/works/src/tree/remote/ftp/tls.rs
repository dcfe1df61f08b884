//! Encryption of FTP: certificates of public authorities, or one that the person trusted by its fingerprint.

use std::sync::{Arc, Mutex, PoisonError};

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{DigitallySignedStruct, SignatureScheme};

use super::super::error::HostError;
use super::super::trust::Trust;

const ONCE: &[&rustls::SupportedProtocolVersion] = &[&rustls::version::TLS12];

/// Judges a host's certificate; why it was refused is kept, since the library passes on its own errors only.
#[derive(Debug)]
pub(super) struct Judge {
    public: Arc<WebPkiServerVerifier>,
    trust: TrustOf,
    pub(super) wrong: Mutex<Option<HostError>>,
}

struct TrustOf(Trust);

impl std::fmt::Debug for TrustOf {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Trust")
    }
}

/// Returns what encrypts the connections to one host, and its judge. One configuration for all connections: hosts
/// may demand that a data connection goes on with the session of its control connection. `once` is for those where
/// that cannot be done often enough with TLS 1.3, whose tickets are good for one use each.
pub(super) fn configured(trust: Trust, once: bool) -> Result<(Arc<rustls::ClientConfig>, Arc<Judge>), String> {
    let roots = rustls::RootCertStore::from_iter(webpki_roots::TLS_SERVER_ROOTS.iter().cloned());
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let public = WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider.clone())
        .build()
        .map_err(|e| e.to_string())?;
    let judge = Arc::new(Judge { public, trust: TrustOf(trust), wrong: Mutex::new(None) });
    let config = rustls::ClientConfig::builder_with_provider(provider)
        .with_protocol_versions(if once { ONCE } else { rustls::ALL_VERSIONS })
        .map_err(|e| e.to_string())?
        .dangerous()
        .with_custom_certificate_verifier(judge.clone())
        .with_no_client_auth();
    Ok((Arc::new(config), judge))
}

impl ServerCertVerifier for Judge {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let public = self.public.verify_server_cert(end_entity, intermediates, server_name, ocsp_response, now);
        public.or_else(|e| match self.trust.0.certificate(end_entity) {
            Ok(()) => Ok(ServerCertVerified::assertion()),
            Err(why) => {
                *self.wrong.lock().unwrap_or_else(PoisonError::into_inner) = Some(why);
                Err(e)
            }
        })
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.public.verify_tls12_signature(message, cert, dss)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.public.verify_tls13_signature(message, cert, dss)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.public.supported_verify_schemes()
    }
}
