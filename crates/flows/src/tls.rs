//! TLS of clients: authorities, and a certificate of its own, from PEM files.

use std::{fs, path::Path};
#[cfg(any(feature = "mqtt", feature = "sql"))]
use std::{path::PathBuf, sync::Arc};

use rustls::pki_types::{CertificateDer, pem::PemObject};
#[cfg(any(feature = "mqtt", feature = "sql"))]
use rustls::{ClientConfig, RootCertStore, crypto::ring, pki_types::PrivateKeyDer};

use crate::error::FlowError;

/// The files of a client.
#[cfg(any(feature = "mqtt", feature = "sql"))]
#[derive(Clone, Copy, Debug, Default)]
pub struct TlsFiles<'a> {
    /// Authorities that the other side is checked against (default: the public ones).
    pub ca: Option<&'a PathBuf>,
    /// The client's certificate.
    pub certificate: Option<&'a PathBuf>,
    /// Its private key.
    pub key: Option<&'a PathBuf>,
}

#[cfg(any(feature = "mqtt", feature = "sql"))]
impl TlsFiles<'_> {
    /// Reads the files.
    ///
    /// # Errors
    /// If one cannot be read, or has nothing of its kind.
    pub fn read(self) -> Result<Arc<ClientConfig>, FlowError> {
        let mut roots = RootCertStore::empty();
        match self.ca {
            Some(ca) => {
                for certificate in certificates(ca)? {
                    roots.add(certificate).map_err(|error| unusable(ca, &error))?;
                }
            }
            None => roots.extend(webpki_roots::TLS_SERVER_ROOTS.iter().cloned()),
        }
        let builder = ClientConfig::builder_with_provider(Arc::new(ring::default_provider()));
        let builder = builder.with_safe_default_protocol_versions().map_err(|error| FlowError::Peer(format!("TLS cannot start: {error}")))?;
        let builder = builder.with_root_certificates(roots);
        let config = match (self.certificate, self.key) {
            (Some(certificate), Some(key)) => {
                builder.with_client_auth_cert(certificates(certificate)?, private_key(key)?).map_err(|error| unusable(key, &error))?
            }
            _ => builder.with_no_client_auth(),
        };
        Ok(Arc::new(config))
    }
}

/// The certificates in a PEM file.
///
/// # Errors
/// If the file cannot be read, or has none.
pub fn certificates(file: &Path) -> Result<Vec<CertificateDer<'static>>, FlowError> {
    let fault = |reason: String| FlowError::File { action: "read the certificate in", path: file.display().to_string(), reason };
    let pem = fs::read(file).map_err(|error| fault(error.to_string()))?;
    let all = CertificateDer::pem_slice_iter(&pem).collect::<Result<Vec<_>, _>>().map_err(|error| fault(error.to_string()))?;
    if all.is_empty() { Err(fault("it is not a PEM file with a certificate".to_owned())) } else { Ok(all) }
}

/// The text of a private key, and the error if it has none in PEM.
///
/// # Errors
/// If the file cannot be read.
pub fn read_key(file: &Path) -> Result<(Vec<u8>, FlowError), FlowError> {
    let fault = |reason: String| FlowError::File { action: "read the private key in", path: file.display().to_string(), reason };
    let pem = fs::read(file).map_err(|error| fault(error.to_string()))?;
    Ok((pem, fault("it is not a PEM file with a private key".to_owned())))
}

#[cfg(any(feature = "mqtt", feature = "sql"))]
fn private_key(file: &Path) -> Result<PrivateKeyDer<'static>, FlowError> {
    let (pem, fault) = read_key(file)?;
    PrivateKeyDer::from_pem_slice(&pem).map_err(|_| fault)
}

/// Why a certificate or key is of no use.
#[cfg(any(feature = "mqtt", feature = "sql"))]
fn unusable(file: &Path, error: &rustls::Error) -> FlowError {
    FlowError::File { action: "use the certificate in", path: file.display().to_string(), reason: error.to_string() }
}
