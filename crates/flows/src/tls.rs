//! TLS of clients: authorities, and a certificate of its own, from PEM files.

use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

use rustls::{
    ClientConfig, RootCertStore,
    crypto::ring,
    pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject},
};

use crate::error::FlowError;

/// The files of a client.
#[derive(Clone, Copy, Debug, Default)]
pub struct TlsFiles<'a> {
    /// Authorities that the other side is checked against (default: the public ones).
    pub ca: Option<&'a PathBuf>,
    /// The client's certificate.
    pub certificate: Option<&'a PathBuf>,
    /// Its private key.
    pub key: Option<&'a PathBuf>,
}

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
                    roots.add(certificate).map_err(|error| fault(ca, error.to_string()))?;
                }
            }
            None => roots.extend(webpki_roots::TLS_SERVER_ROOTS.iter().cloned()),
        }
        let builder = ClientConfig::builder_with_provider(Arc::new(ring::default_provider()));
        let builder = builder.with_safe_default_protocol_versions().map_err(|error| FlowError::Peer(format!("TLS cannot start: {error}")))?;
        let builder = builder.with_root_certificates(roots);
        let config = match (self.certificate, self.key) {
            (Some(certificate), Some(key)) => {
                let private = PrivateKeyDer::from_pem_file(key).map_err(|error| fault(key, format!("it has no private key in PEM ({error})")))?;
                builder.with_client_auth_cert(certificates(certificate)?, private).map_err(|error| fault(key, error.to_string()))?
            }
            _ => builder.with_no_client_auth(),
        };
        Ok(Arc::new(config))
    }
}

fn certificates(file: &Path) -> Result<Vec<CertificateDer<'static>>, FlowError> {
    let all = CertificateDer::pem_file_iter(file).map_err(|error| fault(file, error.to_string()))?;
    let all = all.collect::<Result<Vec<_>, _>>().map_err(|error| fault(file, error.to_string()))?;
    if all.is_empty() { Err(fault(file, "it is not a PEM file with a certificate".to_owned())) } else { Ok(all) }
}

fn fault(file: &Path, reason: String) -> FlowError {
    FlowError::File { action: "use the certificate in", path: file.display().to_string(), reason }
}
