//! References to secrets. A definition never has a secret in clear: it names where the secret is.

use std::{env, fmt, fs, path::PathBuf};

use fenetre_store::Secrets;
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
    /// A secret of the store.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kept: Option<String>,
}

const PLACES: &str = "{ kept = \"NAME\" }, { env = \"NAME\" } or { file = \"PATH\" }";

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
                let mut place = SecretRef { env: None, file: None, kept: None };
                while let Some(kind) = map.next_key::<String>()? {
                    match kind.as_str() {
                        "env" => place.env = Some(map.next_value()?),
                        "file" => place.file = Some(map.next_value()?),
                        "kept" => place.kept = Some(map.next_value()?),
                        _ => return Err(de::Error::unknown_field(&kind, &["kept", "env", "file"])),
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
        if [self.env.is_some(), self.file.is_some(), self.kept.is_some()].into_iter().filter(|is_set| *is_set).count() != 1 {
            return Err(FlowError::Definition(format!("a secret is one of {PLACES}")));
        }
        Ok(())
    }

    /// Reads it, without the end of its line.
    ///
    /// # Errors
    /// [`FlowError::Secret`], which quotes nothing of it.
    pub fn read(&self, kept: &Secrets) -> Result<String, FlowError> {
        let fault = |text: String| FlowError::Secret(text);
        let text = match (&self.env, &self.file) {
            (None, None) => self.kept_value(kept)?,
            (Some(name), _) => env::var(name).map_err(|_| fault(format!("the variable {name} is not set in the environment of the service")))?,
            (None, Some(file)) => {
                let file = match env::var_os("CREDENTIALS_DIRECTORY") {
                    Some(folder) if file.is_relative() => PathBuf::from(folder).join(file),
                    _ => file.clone(),
                };
                fs::read_to_string(&file).map_err(|error| fault(format!("cannot read the secret in {}: {error}", file.display())))?
            }
        };
        checked_secret(&text).map(str::to_owned)
    }
}

impl SecretRef {
    fn kept_value(&self, kept: &Secrets) -> Result<String, FlowError> {
        let name = self.kept.as_ref().ok_or_else(|| FlowError::Secret(format!("a secret has no place: write {PLACES}")))?;
        let found = kept.get(name)?;
        found.ok_or_else(|| FlowError::Secret(format!("there is no secret `{name}` in the store: set it with `fenetre secret set {name}`")))
    }
}

/// Checks a secret that is to be kept in a store, and returns it without the end of its line.
///
/// # Errors
/// [`FlowError::Secret`], which quotes nothing of it.
pub fn checked_secret(text: &str) -> Result<&str, FlowError> {
    let text = text.trim_end_matches(['\n', '\r']);
    if text.is_empty() || text.len() > MAX_SECRET || text.contains(['\n', '\r']) {
        return Err(FlowError::Secret("a secret is empty, too long, or has several lines".to_owned()));
    }
    Ok(text)
}

#[cfg(test)]
mod tests {
    use fenetre_store::{Options, Store};

    use super::*;

    #[test]
    fn a_secret_is_read_from_its_place_without_the_end_of_its_line() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(&folder.path().join("store"), Options::default()).unwrap();
        let read =
            |place: &str| toml::from_str::<Holder>(&format!("place = {place}")).unwrap().place.read(store.secrets()).map_err(|e| e.to_string());
        let file = folder.path().join("token");
        let in_file = format!("{{ file = \"{}\" }}", file.display());
        fs::write(&file, "river\n").unwrap();
        assert_eq!(read(&in_file).unwrap(), "river");
        fs::write(&file, "\n").unwrap();
        assert!(read(&in_file).unwrap_err().contains("is empty"));
        assert!(read("{ env = \"FENETRE_NO_SUCH_VARIABLE\" }").unwrap_err().contains("FENETRE_NO_SUCH_VARIABLE is not set"));
        let missing = read("{ kept = \"broker\" }").unwrap_err();
        assert_eq!(missing, "there is no secret `broker` in the store: set it with `fenetre secret set broker`");
        store.secrets().set("broker", "stream", 0).unwrap();
        assert_eq!(read("{ kept = \"broker\" }").unwrap(), "stream");
        assert!(toml::from_str::<Holder>("place = {}").unwrap().place.check().unwrap_err().to_string().contains("a secret is one of"));
        let twice = toml::from_str::<Holder>("place = { kept = \"a\", env = \"B\" }").unwrap().place;
        assert!(twice.check().is_err());
        let unknown = toml::from_str::<Holder>("place = { vault = \"a\" }").unwrap_err().to_string();
        assert!(unknown.contains("expected one of `kept`, `env`, `file`"), "{unknown}");
    }

    #[derive(Debug, Deserialize)]
    struct Holder {
        place: SecretRef,
    }
}
