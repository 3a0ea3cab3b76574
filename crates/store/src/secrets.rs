//! Secrets by name, in the file `secrets.db`, which only its owner can read. The API sets and uses them, and never returns them.

use std::{
    collections::BTreeMap,
    fs::{self, OpenOptions},
    os::unix::fs::{OpenOptionsExt, PermissionsExt},
    path::{Path, PathBuf},
};

use fenetre_core::{model::check_dataset_name, time::Nanos};
use parking_lot::Mutex;
use rusqlite::{Connection, OptionalExtension};

use crate::{
    disk::sqlite,
    error::{Context, StoreError},
};

/// Mode of the file: only its owner reads and writes it.
const MODE: u32 = 0o600;
const SCHEMA: &str = "CREATE TABLE IF NOT EXISTS secret (name TEXT PRIMARY KEY, value TEXT NOT NULL, set_at INTEGER NOT NULL) STRICT";

/// The secrets of a store. The file is created with the first secret.
pub struct Secrets {
    path: PathBuf,
    connection: Mutex<Option<Connection>>,
}

impl Secrets {
    pub(crate) fn new(path: PathBuf) -> Self {
        Self { path, connection: Mutex::default() }
    }

    /// Sets a secret, or replaces it.
    ///
    /// # Errors
    /// [`StoreError::Definition`] for a wrong name; or if the file cannot be written.
    pub fn set(&self, name: &str, value: &str, now: Nanos) -> Result<(), StoreError> {
        check_dataset_name(name).map_err(|error| StoreError::Definition(format!("invalid name of a secret: `{name}`: it {error}")))?;
        if !self.path.exists() {
            // SQLite gives its other files the mode of this one.
            OpenOptions::new().write(true).create(true).truncate(false).mode(MODE).open(&self.path).at("create", &self.path)?;
        }
        self.with(|connection| {
            connection.execute("INSERT OR REPLACE INTO secret (name, value, set_at) VALUES (?1, ?2, ?3)", (name, value, now)).map(drop)
        })
    }

    /// A secret; none if there is none of that name.
    ///
    /// # Errors
    /// If the file cannot be read.
    pub fn get(&self, name: &str) -> Result<Option<String>, StoreError> {
        if !self.path.exists() {
            return Ok(None);
        }
        self.with(|connection| connection.query_row("SELECT value FROM secret WHERE name = ?1", [name], |row| row.get(0)).optional())
    }

    /// The names, each with the time at which it was set.
    ///
    /// # Errors
    /// If the file cannot be read.
    pub fn names(&self) -> Result<BTreeMap<String, Nanos>, StoreError> {
        if !self.path.exists() {
            return Ok(BTreeMap::new());
        }
        self.with(|connection| {
            let mut rows = connection.prepare("SELECT name, set_at FROM secret")?;
            rows.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?.collect()
        })
    }

    /// Removes a secret; returns whether there was one.
    ///
    /// # Errors
    /// If the file cannot be written.
    pub fn remove(&self, name: &str) -> Result<bool, StoreError> {
        if !self.path.exists() {
            return Ok(false);
        }
        self.with(|connection| connection.execute("DELETE FROM secret WHERE name = ?1", [name]).map(|count| count > 0))
    }

    /// Copies the file, if there is one; returns whether there is.
    pub(crate) fn copy_to(&self, to: &Path) -> Result<bool, StoreError> {
        if !self.path.exists() {
            return Ok(false);
        }
        OpenOptions::new().write(true).create(true).truncate(true).mode(MODE).open(to).at("create", to)?;
        self.with(|connection| connection.execute("VACUUM INTO ?1", [to.to_string_lossy()]).map(drop))?;
        Ok(true)
    }

    fn with<T>(&self, work: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T, StoreError> {
        let mut connection = self.connection.lock();
        let open = match &mut *connection {
            Some(open) => open,
            None => {
                self.check_mode()?;
                let open = sqlite::open(&self.path, sqlite::Use::Records)?;
                // What was removed is overwritten.
                open.execute_batch("PRAGMA secure_delete = ON").and_then(|()| open.execute_batch(SCHEMA)).at("open", &self.path)?;
                connection.insert(open)
            }
        };
        work(open).at("use", &self.path)
    }

    /// Rejects a file that other users can read.
    fn check_mode(&self) -> Result<(), StoreError> {
        let mode = fs::metadata(&self.path).at("look at", &self.path)?.permissions().mode();
        if mode & 0o077 == 0 {
            return Ok(());
        }
        let path = self.path.display();
        Err(StoreError::Definition(format!(
            "other users can read {path}: run `chmod 600 {path}`, and set the secrets anew if somebody may have read it"
        )))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_are_set_used_and_removed_in_a_file_of_their_owner() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("secrets.db");
        let secrets = Secrets::new(path.clone());
        assert_eq!((secrets.get("broker").unwrap(), secrets.remove("broker").unwrap(), path.exists()), (None, false, false));
        secrets.set("broker", "river", 5).unwrap();
        secrets.set("broker", "stream", 7).unwrap();
        for file in fs::read_dir(folder.path()).unwrap() {
            assert_eq!(file.unwrap().metadata().unwrap().permissions().mode() & 0o777, MODE);
        }
        let again = Secrets::new(path.clone());
        assert_eq!(again.get("broker").unwrap().as_deref(), Some("stream"));
        assert_eq!(again.names().unwrap(), BTreeMap::from([("broker".to_owned(), 7)]));
        assert!(again.remove("broker").unwrap());
        assert_eq!(again.names().unwrap(), BTreeMap::new());
        assert!(again.set("Broker 1", "x", 0).unwrap_err().to_string().starts_with("invalid name of a secret: `Broker 1`: it holds `B`: use a to z"));
        fs::set_permissions(&path, fs::Permissions::from_mode(0o644)).unwrap();
        let opened = Secrets::new(path).names().unwrap_err().to_string();
        assert!(opened.contains("other users can read") && opened.contains("chmod 600"), "{opened}");
    }
}
