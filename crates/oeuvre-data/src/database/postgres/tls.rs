//! Encryption of what is sent: by rustls, and who must vouch for a server.

use super::address::{Address, Encryption};
use super::problem;
use crate::options::DatabaseOptions;
use oeuvre_columns::ReadError;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use std::sync::Arc;
use tokio_postgres_rustls::MakeRustlsConnect;

/// How to encrypt what is sent to a server.
///
/// # Errors
/// Certificates that cannot be read.
pub(super) fn connector(
    shown: &str,
    address: &Address,
    options: &DatabaseOptions,
) -> Result<MakeRustlsConnect, ReadError> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider.clone())
        .with_safe_default_protocol_versions()
        .map_err(|e| problem(shown, format!("encryption does not work here: {e}")))?;
    let config = match address.encryption {
        Encryption::VerifyFull => {
            builder.with_root_certificates(roots(shown, address, options)?).with_no_client_auth()
        }
        _ => builder
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(Anybody(provider)))
            .with_no_client_auth(),
    };
    Ok(MakeRustlsConnect::new(config))
}

/// Who may vouch for servers.
fn roots(
    shown: &str,
    address: &Address,
    options: &DatabaseOptions,
) -> Result<RootCertStore, ReadError> {
    let mut roots = RootCertStore::empty();
    let own = address.certificates.as_ref().map(std::path::Path::new);
    let read = |file: &std::path::Path| {
        std::fs::read(file).map_err(|e| {
            let file = file.display();
            problem(shown, format!("the certificates in {file} cannot be read: {e}"))
                .help("sslrootcert in the address, PGSSLROOTCERT or SSL_CERT_FILE name them")
        })
    };
    let named = own.or(options.certificates.as_deref()).map(read).transpose()?;
    let Some(pem) = named else {
        roots.extend(webpki_roots::TLS_SERVER_ROOTS.iter().cloned());
        return Ok(roots);
    };
    for certificate in CertificateDer::pem_slice_iter(&pem) {
        let sound = certificate.ok().and_then(|certificate| roots.add(certificate).ok());
        if sound.is_none() {
            return Err(problem(shown, "a certificate that was named makes no sense".to_owned())
                .help("certificates are expected in PEM: -----BEGIN CERTIFICATE-----")
                .into());
        }
    }
    Ok(roots)
}

/// Lets any server through: what is sent is encrypted, whoever reads it. So `require` asks for it, and so other
/// programs that ask such servers take it; `verify-full` wants to know who that is.
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
        let algorithms = &self.0.signature_verification_algorithms;
        verify_tls12_signature(message, certificate, signed, algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = &self.0.signature_verification_algorithms;
        verify_tls13_signature(message, certificate, signed, algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}
