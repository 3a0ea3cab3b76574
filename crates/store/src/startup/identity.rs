//! Checks that files belong to their catalogue, and that the catalogue is not older than they are.
//!
//! Points refer to series by their ids alone. If a catalogue of another store, or an older one of this store, is put beside partitions, new series get ids that
//! old points already have, and both are mixed up. So a store has a random number, which its files carry, and no file may refer to a series above the highest id
//! that the catalogue ever gave.

use std::{collections::BTreeMap, fs, path::PathBuf};

use crate::{
    catalogue::records::Records,
    disk::files::Files,
    error::{Context, StoreError},
    journal::{self, Replayed},
    partition::origin::origin_of,
};

/// Every partition file below the store's directory, also in folders that no dataset has.
pub fn partition_files(files: &Files) -> Result<Vec<PathBuf>, StoreError> {
    let mut found = Vec::new();
    for entry in fs::read_dir(files.data()).at("read the folder", files.data())? {
        let entry = entry.at("read the folder", files.data())?;
        if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
            found.extend(files.partitions(&entry.file_name().to_string_lossy())?.into_iter().map(|(_, path)| path));
        }
    }
    found.sort();
    Ok(found)
}

/// Compares the origins of all files with the catalogue. An unreadable file is skipped here, and reported when it is used.
///
/// # Errors
/// [`StoreError::Foreign`] for a file of another store, [`StoreError::OlderCatalogue`] for one that refers to series that the catalogue does not know.
pub fn check(files: &Files, records: &Records, journals: &BTreeMap<u64, Replayed>) -> Result<(), StoreError> {
    let store = records.store()?;
    let known = records.highest()?;
    let of_journals = journals.iter().map(|(number, replayed)| (journal::path_of(&files.journals(), *number), replayed.origin));
    let of_partitions = partition_files(files)?.into_iter().filter_map(|path| origin_of(&path).ok().map(|origin| (path, origin)));
    for (file, origin) in of_journals.chain(of_partitions) {
        if origin.is_foreign(store) {
            return Err(StoreError::Foreign { file, root: files.root().to_owned() });
        }
        if let Some((found, known)) = origin.highest.above(known) {
            return Err(StoreError::OlderCatalogue { path: files.catalogue(), file, found, known, root: files.root().to_owned() });
        }
    }
    Ok(())
}
