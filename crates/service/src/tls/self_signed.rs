//! A self-signed certificate for trials. Clients must be configured to trust it.

use std::{
    fs::{self, OpenOptions},
    io::{self, Write},
    os::unix::fs::OpenOptionsExt,
    path::Path,
    time::{Duration, SystemTime},
};

use rcgen::{CertificateParams, DistinguishedName, DnType, KeyPair};

/// A day before now: clocks differ.
const BEFORE: Duration = Duration::from_secs(3_600);

/// Why a certificate could not be made.
#[derive(Debug, thiserror::Error)]
pub enum SelfSignedError {
    /// It cannot be made, for example for such a name.
    #[error("a certificate for {names} cannot be made: {reason}")]
    Names {
        /// The names.
        names: String,
        /// What the library says.
        reason: String,
    },
    /// A file cannot be written.
    #[error("cannot write {path}: {source}")]
    File {
        /// The file.
        path: String,
        /// Why not.
        source: io::Error,
    },
}

/// Writes a certificate for host names and addresses, valid for some days, and its key, which only the owner may read.
///
/// # Errors
/// [`SelfSignedError`].
pub fn write(names: &[String], days: u32, certificate: &Path, key: &Path) -> Result<(), SelfSignedError> {
    let fault = |error: rcgen::Error| SelfSignedError::Names { names: names.join(", "), reason: error.to_string() };
    let mut params = CertificateParams::new(names.to_vec()).map_err(fault)?;
    let mut subject = DistinguishedName::new();
    subject.push(DnType::CommonName, names.first().cloned().unwrap_or_default());
    params.distinguished_name = subject;
    let now = SystemTime::now();
    params.not_before = (now - BEFORE).into();
    params.not_after = (now + Duration::from_secs(u64::from(days) * 86_400)).into();
    let pair = KeyPair::generate().map_err(fault)?;
    let signed = params.self_signed(&pair).map_err(fault)?;
    let failed = |path: &Path| {
        let path = path.display().to_string();
        move |source| SelfSignedError::File { path, source }
    };
    // The mode holds from the first byte on.
    let _ = fs::remove_file(key);
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(key).map_err(failed(key))?;
    file.write_all(pair.serialize_pem().as_bytes()).map_err(failed(key))?;
    fs::write(certificate, signed.pem()).map_err(failed(certificate))
}
