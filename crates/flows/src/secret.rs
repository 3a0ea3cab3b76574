//! References to secrets. A definition never has a secret in clear: it names where the secret is.

use std::{env, fmt, fs, path::PathBuf};

use serde::{
    Deserialize, Deserializer, Serialize,
    de::{self, MapAccess, Visitor},
};

use crate::error::FlowError;

/// Longest secret, in bytes.
const MAX_SECRET: usize = 64 << 10;

/// Where a secret is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SecretRef {
    /// A variable of the environment of the service.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub env: Option<String>,
    /// A file on the machine of the service; below `$CREDENTIALS_DIRECTORY` if its path is relative and that is set.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<PathBuf>,
}

const PLACES: &str = "{ env = \"NAME\" } or { file = \"PATH\" }";

impl<'de> Deserialize<'de> for SecretRef {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Place;

        impl<'de> Visitor<'de> for Place {
            type Value = SecretRef;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, "the place of a secret: {PLACES}")
            }

            // The usual message would quote it.
            fn visit_str<E: de::Error>(self, _: &str) -> Result<SecretRef, E> {
                Err(E::custom(format!("a secret must not stand in a definition: write where it is, as {PLACES}")))
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<SecretRef, A::Error> {
                let mut place = SecretRef { env: None, file: None };
                while let Some(kind) = map.next_key::<String>()? {
                    match kind.as_str() {
                        "env" => place.env = Some(map.next_value()?),
                        "file" => place.file = Some(map.next_value()?),
                        _ => return Err(de::Error::unknown_field(&kind, &["env", "file"])),
                    }
                }
                Ok(place)
            }
        }
        deserializer.deserialize_any(Place)
    }
}

impl SecretRef {
    /// Whether it names exactly one place.
    ///
    /// # Errors
    /// [`FlowError::Definition`].
    pub fn check(&self) -> Result<(), FlowError> {
        if self.env.is_some() == self.file.is_some() {
            return Err(FlowError::Definition(format!("a secret is either {PLACES}")));
        }
        Ok(())
    }

    /// Reads it, without the end of its line.
    ///
    /// # Errors
    /// [`FlowError::Secret`], which quotes nothing of it.
    pub fn read(&self) -> Result<String, FlowError> {
        let fault = |text: String| FlowError::Secret(text);
        let text = match (&self.env, &self.file) {
            (Some(name), _) => env::var(name).map_err(|_| fault(format!("the variable {name} is not set in the environment of the service")))?,
            (None, Some(file)) => {
                let file = match env::var_os("CREDENTIALS_DIRECTORY") {
                    Some(folder) if file.is_relative() => PathBuf::from(folder).join(file),
                    _ => file.clone(),
                };
                fs::read_to_string(&file).map_err(|error| fault(format!("cannot read the secret in {}: {error}", file.display())))?
            }
            (None, None) => return Err(fault(format!("a secret has no place: write {PLACES}"))),
        };
        let text = text.trim_end_matches(['\n', '\r']);
        if text.is_empty() || text.len() > MAX_SECRET || text.contains(['\n', '\r']) {
            return Err(fault("a secret is empty, too long, or has several lines".to_owned()));
        }
        Ok(text.to_owned())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_is_read_from_its_file_without_the_end_of_its_line() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("token");
        fs::write(&file, "river\n").unwrap();
        let secret = SecretRef { env: None, file: Some(file.clone()) };
        assert_eq!(secret.read().unwrap(), "river");
        fs::write(&file, "\n").unwrap();
        assert!(secret.read().unwrap_err().to_string().contains("is empty"));
        let missing = SecretRef { env: Some("FENETRE_NO_SUCH_VARIABLE".to_owned()), file: None };
        assert!(missing.read().unwrap_err().to_string().contains("FENETRE_NO_SUCH_VARIABLE is not set"));
        assert!(SecretRef { env: None, file: None }.check().is_err());
    }
}
