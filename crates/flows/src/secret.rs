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
#[serde(rename_all = "lowercase")]
pub enum SecretRef {
    /// A secret of the store, by its name.
    Kept(String),
    /// A variable of the environment of the service.
    Env(String),
    /// A file on the machine of the service; below `$CREDENTIALS_DIRECTORY` if its path is relative and that is set.
    File(PathBuf),
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
                let mut place = None;
                while let Some(kind) = map.next_key::<String>()? {
                    let found = match kind.as_str() {
                        "kept" => SecretRef::Kept(map.next_value()?),
                        "env" => SecretRef::Env(map.next_value()?),
                        "file" => SecretRef::File(map.next_value()?),
                        _ => return Err(de::Error::unknown_field(&kind, &["kept", "env", "file"])),
                    };
                    if place.replace(found).is_some() {
                        return Err(de::Error::custom(format!("a secret has one place: write {PLACES}")));
                    }
                }
                place.ok_or_else(|| de::Error::custom(format!("a secret has no place: write {PLACES}")))
            }
        }
        deserializer.deserialize_any(Place)
    }
}

impl SecretRef {
    /// Reads it, without the end of its line.
    ///
    /// # Errors
    /// [`FlowError::Secret`], which quotes nothing of it.
    pub fn read(&self, kept: &Secrets) -> Result<String, FlowError> {
        let text = match self {
            Self::Kept(name) => {
                kept.get(name)?.ok_or_else(|| format!("there is no secret `{name}` in the store: set it with `fenetre secret set {name}`"))
            }
            Self::Env(name) => env::var(name).map_err(|_| format!("the variable {name} is not set in the environment of the service")),
            Self::File(file) => {
                let file = match env::var_os("CREDENTIALS_DIRECTORY") {
                    Some(folder) if file.is_relative() => PathBuf::from(folder).join(file),
                    _ => file.clone(),
                };
                fs::read_to_string(&file).map_err(|error| format!("cannot read the secret in {}: {error}", file.display()))
            }
        };
        checked_secret(&text.map_err(FlowError::Secret)?).map(str::to_owned)
    }
}

/// Checks the text of a secret, and returns it without the end of its line.
///
/// # Errors
/// [`FlowError::Secret`], which quotes nothing of it.
pub fn checked_secret(text: &str) -> Result<&str, FlowError> {
    let text = text.trim_end_matches(['\n', '\r']);
    if text.is_empty() || text.len() > MAX_SECRET || text.contains(['\n', '\r']) {
        return Err(FlowError::Secret(format!("a secret must be one line of 1 to {MAX_SECRET} bytes")));
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
        assert!(read(&in_file).unwrap_err().contains("must be one line of 1 to 65536 bytes"));
        assert!(read("{ env = \"FENETRE_NO_SUCH_VARIABLE\" }").unwrap_err().contains("FENETRE_NO_SUCH_VARIABLE is not set"));
        let missing = read("{ kept = \"broker\" }").unwrap_err();
        assert_eq!(missing, "there is no secret `broker` in the store: set it with `fenetre secret set broker`");
        store.secrets().set("broker", "stream", 0).unwrap();
        assert_eq!(read("{ kept = \"broker\" }").unwrap(), "stream");
        let faults = [
            ("{}", "a secret has no place: write { kept"),
            ("{ kept = \"a\", env = \"B\" }", "a secret has one place: write { kept"),
            ("{ vault = \"a\" }", "expected one of `kept`, `env`, `file`"),
        ];
        for (place, wanted) in faults {
            let fault = toml::from_str::<Holder>(&format!("place = {place}")).unwrap_err().to_string();
            assert!(fault.contains(wanted), "{fault}");
        }
        let kept = SecretRef::Kept("broker".to_owned());
        assert_eq!(serde_json::to_string(&kept).unwrap(), "{\"kept\":\"broker\"}");
    }

    #[derive(Debug, Deserialize)]
    struct Holder {
        place: SecretRef,
    }
}
