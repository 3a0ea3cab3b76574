//! The certificate of the service: read and checked, and read again when its files change. If a new certificate is invalid, the old one stays in use.

use std::{
    fmt::Write as _,
    fs,
    path::{Path, PathBuf},
    sync::Arc,
    time::SystemTime,
};

use arc_swap::ArcSwap;
use fenetre_core::time::{Nanos, SECOND, format_utc};
use parking_lot::Mutex;
use rustls::{
    RootCertStore, ServerConfig,
    crypto::{CryptoProvider, ring},
    pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject},
    server::{ClientHello, ResolvesServerCert, WebPkiClientVerifier},
    sign::CertifiedKey,
};
use sha2::{Digest, Sha256};
use x509_parser::prelude::{FromDer, X509Certificate};

use crate::config::TlsFiles;

/// Why a certificate cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum CertificateError {
    /// A file cannot be read.
    #[error("cannot read {path}: {reason}. It must be a PEM file")]
    Unreadable {
        /// The file.
        path: PathBuf,
        /// Why not.
        reason: String,
    },
    /// There is no certificate in the file.
    #[error("{path} contains no certificate: it must be a PEM file with `BEGIN CERTIFICATE`")]
    Empty {
        /// The file.
        path: PathBuf,
    },
    /// Key and certificate do not belong together.
    #[error("the key in {key} does not belong to the certificate in {certificate}: {reason}")]
    Mismatch {
        /// File of the certificate.
        certificate: PathBuf,
        /// File of the key.
        key: PathBuf,
        /// What the library says.
        reason: String,
    },
    /// Its time is over, or has not begun.
    #[error("the certificate in {path} is valid from {from} to {to}, and now is {now}: renew it, or check the clock")]
    Expired {
        /// The file.
        path: PathBuf,
        /// Its begin.
        from: String,
        /// Its end.
        to: String,
        /// The time of the service.
        now: String,
    },
    /// The authorities of clients cannot be used.
    #[error("the authorities in {path} cannot be used: {reason}")]
    Authorities {
        /// The file.
        path: PathBuf,
        /// Why not.
        reason: String,
    },
    /// The library refuses to be set up.
    #[error("TLS cannot be set up: {0}")]
    Library(#[from] rustls::Error),
}

/// The certificate in use, and what happened to its files since.
pub struct Certificate {
    files: TlsFiles,
    current: Arc<Current>,
    seen: Mutex<Seen>,
}

#[derive(Debug)]
struct Current {
    key: ArcSwap<CertifiedKey>,
}

impl ResolvesServerCert for Current {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.key.load_full())
    }
}

#[derive(Default)]
struct Seen {
    /// When the files were written that were looked at last.
    stamp: Option<[SystemTime; 2]>,
    fault: Option<String>,
    expires: Nanos,
}

fn provider() -> Arc<CryptoProvider> {
    Arc::new(ring::default_provider())
}

impl Certificate {
    /// Reads the certificate at the start of the service.
    ///
    /// # Errors
    /// [`CertificateError`].
    pub fn open(files: &TlsFiles, now: Nanos) -> Result<Self, CertificateError> {
        let stamp = stamp(files);
        let (key, expires) = load(files, now)?;
        let seen = Mutex::new(Seen { stamp, fault: None, expires });
        Ok(Self { files: files.clone(), current: Arc::new(Current { key: ArcSwap::from_pointee(key) }), seen })
    }

    /// Settings of a server with this certificate: TLS 1.2 and 1.3, HTTP/2 and HTTP/1.1.
    ///
    /// # Errors
    /// [`CertificateError`] if the authorities of clients cannot be used.
    pub fn server_config(&self) -> Result<ServerConfig, CertificateError> {
        let builder = ServerConfig::builder_with_provider(provider()).with_safe_default_protocol_versions()?;
        let builder = match &self.files.client_ca {
            None => builder.with_no_client_auth(),
            Some(path) => {
                let fault = |reason: String| CertificateError::Authorities { path: path.clone(), reason };
                let mut roots = RootCertStore::empty();
                for certificate in certificates(path)? {
                    roots.add(certificate).map_err(|error| fault(error.to_string()))?;
                }
                let verifier = WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider()).build();
                builder.with_client_cert_verifier(verifier.map_err(|error| fault(error.to_string()))?)
            }
        };
        let mut config = builder.with_cert_resolver(Arc::clone(&self.current) as Arc<dyn ResolvesServerCert>);
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        Ok(config)
    }

    /// Reads the files again if they were written since, or if it must be.
    pub fn refresh(&self, now: Nanos, must: bool) {
        let mut seen = self.seen.lock();
        let stamp = stamp(&self.files);
        if seen.stamp == stamp && !must {
            return;
        }
        match load(&self.files, now) {
            Ok((key, expires)) => {
                self.current.key.store(Arc::new(key));
                tracing::info!(file = %self.files.certificate.display(), expires = format_utc(expires), "the certificate was exchanged");
                *seen = Seen { stamp, fault: None, expires };
            }
            Err(error) => {
                tracing::error!(%error, "the new certificate cannot be used; the old one stays in use");
                seen.fault = Some(format!("the new certificate cannot be used, and the old one stays in use: {error}"));
                seen.stamp = stamp;
            }
        }
    }

    /// What is wrong with its files, or will be soon.
    pub fn warning(&self, now: Nanos) -> Option<String> {
        let seen = self.seen.lock();
        if seen.fault.is_some() {
            return seen.fault.clone();
        }
        let soon = seen.expires.saturating_sub(now) < WARN_BEFORE;
        soon.then(|| format!("the certificate in {} expires at {}: renew it", self.files.certificate.display(), format_utc(seen.expires)))
    }
}

/// A warning is given so long before the end of a certificate.
const WARN_BEFORE: Nanos = 14 * 24 * 3_600 * SECOND;

/// When the files were written.
fn stamp(files: &TlsFiles) -> Option<[SystemTime; 2]> {
    let written = |path: &Path| fs::metadata(path).and_then(|file| file.modified()).ok();
    Some([written(&files.certificate)?, written(&files.key)?])
}

fn certificates(path: &Path) -> Result<Vec<CertificateDer<'static>>, CertificateError> {
    let unreadable = |error: rustls::pki_types::pem::Error| CertificateError::Unreadable { path: path.to_owned(), reason: error.to_string() };
    let found: Vec<_> = CertificateDer::pem_file_iter(path).map_err(unreadable)?.collect::<Result<_, _>>().map_err(unreadable)?;
    if found.is_empty() { Err(CertificateError::Empty { path: path.to_owned() }) } else { Ok(found) }
}

/// The key with its certificates, and when the first of them ends.
fn load(files: &TlsFiles, now: Nanos) -> Result<(CertifiedKey, Nanos), CertificateError> {
    let chain = certificates(&files.certificate)?;
    let key = PrivateKeyDer::from_pem_file(&files.key)
        .map_err(|error| CertificateError::Unreadable { path: files.key.clone(), reason: error.to_string() })?;
    let unreadable = |reason: String| CertificateError::Unreadable { path: files.certificate.clone(), reason };
    let validity = X509Certificate::from_der(&chain[0]).map_err(|error| unreadable(error.to_string()))?.1.validity().clone();
    let at = |time: x509_parser::time::ASN1Time| time.timestamp().saturating_mul(SECOND);
    let (from, to) = (at(validity.not_before), at(validity.not_after));
    if now < from || to <= now {
        let (from, to, now) = (format_utc(from), format_utc(to), format_utc(now));
        return Err(CertificateError::Expired { path: files.certificate.clone(), from, to, now });
    }
    let mismatch = |error: rustls::Error| CertificateError::Mismatch {
        certificate: files.certificate.clone(),
        key: files.key.clone(),
        reason: error.to_string(),
    };
    let certified = CertifiedKey::from_der(chain, key, &provider()).map_err(mismatch)?;
    certified.keys_match().map_err(mismatch)?;
    Ok((certified, to))
}

/// The SHA-256 of the first certificate in a file, as pairs of digits.
///
/// # Errors
/// If the file cannot be read.
pub fn fingerprint(path: &Path) -> Result<String, CertificateError> {
    let digest = Sha256::digest(&certificates(path)?[0]);
    Ok(digest.iter().enumerate().fold(String::new(), |mut text, (at, byte)| {
        let _ = write!(text, "{}{byte:02x}", if at == 0 { "" } else { ":" });
        text
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{clock::now, tls::self_signed};

    fn pair(folder: &Path, name: &str) -> TlsFiles {
        let (certificate, key) = (folder.join(format!("{name}.pem")), folder.join(format!("{name}.key")));
        self_signed::write(&["plant.example".to_owned()], 30, &certificate, &key).unwrap();
        TlsFiles { certificate, key, client_ca: None }
    }

    #[test]
    fn files_that_cannot_be_used_are_explained() {
        let folder = tempfile::tempdir().unwrap();
        let (right, other) = (pair(folder.path(), "right"), pair(folder.path(), "other"));
        let message = |files: &TlsFiles, at: Nanos| {
            let text = Certificate::open(files, at).err().unwrap().to_string();
            text.replace(&folder.path().display().to_string(), "DIR")
        };
        let mixed = TlsFiles { key: other.key.clone(), ..right.clone() };
        assert!(message(&mixed, now()).starts_with("the key in DIR/other.key does not belong to the certificate in DIR/right.pem"));
        let missing = TlsFiles { certificate: folder.path().join("none.pem"), ..right.clone() };
        assert!(message(&missing, now()).starts_with("cannot read DIR/none.pem"));
        let swapped = TlsFiles { certificate: right.key.clone(), ..right.clone() };
        assert!(message(&swapped, now()).starts_with("DIR/right.key contains no certificate"));
        let keyless = TlsFiles { key: right.certificate.clone(), ..right.clone() };
        assert!(message(&keyless, now()).starts_with("cannot read DIR/right.pem"));
        let late = message(&right, now() + 31 * 86_400 * SECOND);
        assert!(late.contains("is valid from") && late.ends_with("renew it, or check the clock"), "{late}");
        assert!(message(&right, now() - 2 * 86_400 * SECOND).contains("is valid from"));
        let authorities = TlsFiles { client_ca: Some(right.key.clone()), ..right.clone() };
        let fault = Certificate::open(&authorities, now()).unwrap().server_config().unwrap_err().to_string();
        assert!(fault.contains("contains no certificate"), "{fault}");
    }

    #[test]
    fn a_broken_new_certificate_leaves_the_old_one_in_use() {
        let folder = tempfile::tempdir().unwrap();
        let files = pair(folder.path(), "right");
        let certificate = Certificate::open(&files, now()).unwrap();
        let served = || certificate.current.key.load().cert[0].clone();
        let first = served();
        fs::write(&files.certificate, "nothing").unwrap();
        certificate.refresh(now(), true);
        assert_eq!(served(), first);
        assert!(certificate.warning(now()).unwrap().contains("the old one stays in use"));
        self_signed::write(&["plant.example".to_owned()], 30, &files.certificate, &files.key).unwrap();
        certificate.refresh(now(), false);
        assert_ne!(served(), first);
        assert_eq!(certificate.warning(now()), None);
        assert!(certificate.warning(now() + 20 * 86_400 * SECOND).unwrap().contains("renew it"));
        assert_eq!(fingerprint(&files.certificate).unwrap().len(), 95);
    }
}
