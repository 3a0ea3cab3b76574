//! Profiles: addresses of services with tokens, in a file that only its owner may read.

use std::{
    collections::BTreeMap,
    fs::{self, OpenOptions},
    io::Write,
    os::unix::fs::{OpenOptionsExt, PermissionsExt},
    path::{Path, PathBuf},
};

use serde::{Deserialize, Serialize};

use crate::failure::{Failure, WRONG};

/// The profile that holds without a name.
pub const DEFAULT: &str = "default";

/// A profile.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Profile {
    /// Address of the service.
    pub url: String,
    /// Its token, if it needs one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// File of the authority to trust.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ca: Option<PathBuf>,
    /// SHA-256 of the certificate to trust.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fingerprint: Option<String>,
}

/// The file of the profiles.
pub fn file() -> Result<PathBuf, Failure> {
    let folder = std::env::var_os("XDG_CONFIG_HOME").filter(|folder| !folder.is_empty()).map(PathBuf::from);
    let folder = folder.or_else(|| Some(PathBuf::from(std::env::var_os("HOME")?).join(".config")));
    let missing = || Failure::new(WRONG, "there is no place for profiles: set HOME or XDG_CONFIG_HOME");
    Ok(folder.ok_or_else(missing)?.join("fenetre").join("profiles.toml"))
}

/// All profiles; none if there is no file.
pub fn all(file: &Path) -> Result<BTreeMap<String, Profile>, Failure> {
    let name = file.display();
    let text = match read_secret(file) {
        Ok(text) => text,
        Err(SecretFault::Missing) => return Ok(BTreeMap::new()),
        Err(fault) => return Err(fault.failure(file)),
    };
    // The message of the parser could quote a token.
    toml::from_str(&text).map_err(|error| {
        let line = error.span().map_or(1, |span| text[..span.start.min(text.len())].matches('\n').count() + 1);
        Failure::new(WRONG, format!("{name}:{line} cannot be read as profiles: correct it, or remove it and run `fenetre login` again"))
    })
}

/// Writes all profiles.
pub fn write(file: &Path, profiles: &BTreeMap<String, Profile>) -> Result<(), Failure> {
    let failed = |error: std::io::Error| Failure::new(WRONG, format!("cannot write {}: {error}", file.display()));
    if let Some(folder) = file.parent() {
        fs::create_dir_all(folder).map_err(failed)?;
    }
    let text = toml::to_string(profiles).map_err(|error| Failure::new(WRONG, error.to_string()))?;
    let part = file.with_extension("toml.new");
    // What an earlier attempt left could have another mode.
    let _ = fs::remove_file(&part);
    let mut new = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&part).map_err(failed)?;
    new.write_all(text.as_bytes()).and_then(|()| new.sync_all()).map_err(failed)?;
    fs::rename(&part, file).map_err(failed)
}

/// Why a file with a secret was not read.
pub enum SecretFault {
    Missing,
    Readable(u32),
    Io(std::io::Error),
}

impl SecretFault {
    /// The same as a message.
    pub fn failure(self, file: &Path) -> Failure {
        let name = file.display();
        Failure::new(
            WRONG,
            match self {
                Self::Missing => format!("there is no file {name}"),
                Self::Readable(mode) => {
                    format!(
                        "{name} holds a token and others may read it (mode {mode:03o}): run `chmod 600 {name}`, and rotate the token if others were there"
                    )
                }
                Self::Io(error) => format!("cannot read {name}: {error}"),
            },
        )
    }
}

/// Reads a file that holds a secret, if only its owner may.
pub fn read_secret(file: &Path) -> Result<String, SecretFault> {
    let about = fs::metadata(file).map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => SecretFault::Missing,
        _ => SecretFault::Io(error),
    })?;
    let mode = about.permissions().mode() & 0o777;
    if about.is_file() && mode & 0o077 != 0 {
        return Err(SecretFault::Readable(mode));
    }
    fs::read_to_string(file).map_err(SecretFault::Io)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn profiles_are_kept_where_only_their_owner_reads() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("fenetre/profiles.toml");
        assert!(all(&file).unwrap().is_empty());
        let plant = Profile { url: "https://plant.example:7430".into(), token: Some("fenetre_x".into()), ca: None, fingerprint: None };
        let profiles = BTreeMap::from([("plant".to_owned(), plant)]);
        write(&file, &profiles).unwrap();
        assert_eq!((all(&file).unwrap(), fs::metadata(&file).unwrap().permissions().mode() & 0o777), (profiles, 0o600));
        fs::set_permissions(&file, fs::Permissions::from_mode(0o644)).unwrap();
        let message = all(&file).unwrap_err().to_string();
        assert!(message.contains("others may read it (mode 644)") && message.contains("chmod 600"), "{message}");
    }

    #[test]
    fn a_damaged_file_is_reported_without_its_tokens() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("profiles.toml");
        write(&file, &BTreeMap::new()).unwrap();
        fs::write(&file, "[plant]\ntoken = fenetre_secret\n").unwrap();
        let message = all(&file).unwrap_err().to_string();
        assert!(message.contains("profiles.toml:2") && !message.contains("fenetre_secret"), "{message}");
    }
}
