//! TLS from certificate files.

use std::path::Path;

use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};

/// Why TLS cannot be served.
#[derive(Debug, thiserror::Error)]
pub enum TlsError {
    /// A file cannot be read.
    #[error("{file} cannot be used for TLS: {error}. It must be a PEM file that this user may read.")]
    File {
        /// Which.
        file: String,
        /// Why.
        error: String,
    },
    /// Certificate and key do not go together.
    #[error("Certificate and key cannot be used for TLS: {0}. Check that they belong together.")]
    Pair(#[from] rustls::Error),
}

/// Reads certificate chain and key.
///
/// # Errors
/// A file that cannot be read, or a pair that does not go together.
pub fn load(certificate: &Path, key: &Path) -> Result<ServerConfig, TlsError> {
    let fault = |file: &Path, error: String| TlsError::File { file: file.display().to_string(), error };
    let chain = CertificateDer::pem_file_iter(certificate)
        .and_then(Iterator::collect::<Result<Vec<_>, _>>)
        .map_err(|error| fault(certificate, error.to_string()))?;
    if chain.is_empty() {
        return Err(fault(certificate, "it holds no certificate".to_owned()));
    }
    let key = PrivateKeyDer::from_pem_file(key).map_err(|error| fault(key, error.to_string()))?;
    let provider = std::sync::Arc::new(rustls::crypto::ring::default_provider());
    Ok(ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()?
        .with_no_client_auth()
        .with_single_cert(chain, key)?)
}
