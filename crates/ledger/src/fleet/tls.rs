//! TLS to a fleet's server by rustls, as `sslmode` asks for it.

use std::path::Path;
use std::sync::Arc;

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};
use tokio_postgres_rustls::MakeRustlsConnect;

use super::FleetError;
use super::address::Security;

/// What is asked of the server's certificate.
#[derive(Debug)]
struct Asked {
    /// Leads to a root, where one is stated.
    roots: Option<Arc<WebPkiServerVerifier>>,
    /// And is of the server's own name.
    name: bool,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for Asked {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let Some(roots) = &self.roots else { return Ok(ServerCertVerified::assertion()) };
        match roots.verify_server_cert(end_entity, intermediates, server_name, ocsp_response, now) {
            // `verify-ca` asks for no name.
            Err(Error::InvalidCertificate(
                CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. },
            )) if !self.name => Ok(ServerCertVerified::assertion()),
            told => told,
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

/// What makes TLS of a connection.
///
/// # Errors
/// When the root certificate cannot be read.
pub fn connector(security: Security, root: Option<&Path>) -> Result<MakeRustlsConnect, FleetError> {
    let provider = Arc::new(ring::default_provider());
    let wrong = |path: &Path, why: &dyn std::fmt::Display| {
        FleetError::Address(format!("the root certificate {} cannot be used: {why}", path.display()))
    };
    let roots = match root.filter(|_| security != Security::Prefer) {
        None => None,
        Some(path) => {
            let mut store = RootCertStore::empty();
            for certificate in CertificateDer::pem_file_iter(path).map_err(|e| wrong(path, &e))? {
                store.add(certificate.map_err(|e| wrong(path, &e))?).map_err(|e| wrong(path, &e))?;
            }
            let made = WebPkiServerVerifier::builder_with_provider(Arc::new(store), provider.clone()).build();
            Some(made.map_err(|e| wrong(path, &e))?)
        }
    };
    let asked = Asked { roots, name: security == Security::VerifyFull, provider: provider.clone() };
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| FleetError::Address(format!("TLS cannot be had here: {e}")))?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(asked))
        .with_no_client_auth();
    Ok(MakeRustlsConnect::new(config))
}
