//! Stores of older formats are brought up to this version's, after a copy of them was made.
//!
//! Format 1 to 2: blocks belong to generations, and their summaries are shorter. The old store's files are copied into a folder
//! `before-format-…` first; then each partition is rewritten in one transaction, and the catalogue last, so that a start that was killed on
//! the migration continues with the next one. Format 2 to 3: definitions are documents. Only the catalogue changes, so only that is copied.

use std::{
    fs,
    path::{Path, PathBuf},
};

use fenetre_core::summary::Summary;
use rusqlite::{Connection, functions::FunctionFlags};

use crate::{
    catalogue::records::FORMAT,
    disk::{
        files::{Files, companion, sync_folder},
        sqlite::{self, Use},
    },
    error::{Context, StoreError},
    partition::{FORMAT as PARTITION_FORMAT, SCHEMA},
};

/// Brings an older store up to date; leaves one of this version, or of a later one, as it is.
pub fn migrate(files: &Files) -> Result<(), StoreError> {
    let catalogue = files.catalogue();
    if !catalogue.exists() {
        return Ok(());
    }
    let found = user_version(&sqlite::open(&catalogue, Use::Records)?).at("read", &catalogue)?;
    if !(1..FORMAT).contains(&found) {
        return Ok(());
    }
    let copy = files.root().join(format!("before-format-{FORMAT}"));
    tracing::info!(copy = %copy.display(), "the store has format {found}: copying it, then updating it to format {FORMAT}");
    if !copy.exists() {
        copy_store(files, &copy, found == 1)?;
    }
    let mut rewritten = 0;
    for path in partition_files(files)? {
        let mut connection = sqlite::open(&path, Use::Blocks { page_size: 16_384 })?;
        let format: i32 = connection.pragma_query_value(None, "application_id", |row| row.get(0)).at("read", &path)?;
        if format != PARTITION_FORMAT {
            rewrite(&mut connection, &path)?;
            rewritten += 1;
        }
    }
    tracing::info!(partitions = rewritten, "the store has format {FORMAT} now; its copy can be removed");
    Ok(())
}

fn user_version(connection: &Connection) -> rusqlite::Result<i64> {
    connection.pragma_query_value(None, "user_version", |row| row.get(0))
}

fn partition_files(files: &Files) -> Result<Vec<PathBuf>, StoreError> {
    let mut found = Vec::new();
    for entry in fs::read_dir(files.data()).at("read the folder", files.data())? {
        let name = entry.at("read the folder", files.data())?.file_name();
        found.extend(files.partitions(&name.to_string_lossy())?.into_iter().map(|(_, path)| path));
    }
    Ok(found)
}

/// Copies the catalogue, and with `points` the journal and partitions, under another name until all is there.
fn copy_store(files: &Files, copy: &Path, points: bool) -> Result<(), StoreError> {
    let unfinished = companion(copy, ".part");
    if unfinished.exists() {
        fs::remove_dir_all(&unfinished).at("remove", &unfinished)?;
    }
    let mut wanted = vec![files.catalogue()];
    if points {
        wanted.extend(crate::journal::files(&files.journals())?.into_iter().map(|(_, path)| path));
        wanted.extend(partition_files(files)?);
    }
    for path in wanted.iter().flat_map(|path| [path.clone(), companion(path, "-wal")]).filter(|path| path.exists()) {
        let below = path.strip_prefix(files.root()).unwrap_or(&path);
        let target = unfinished.join(below);
        if let Some(folder) = target.parent() {
            fs::create_dir_all(folder).at("create the folder", folder)?;
        }
        fs::copy(&path, &target).at("copy to", &target)?;
        fs::File::open(&target).and_then(|file| file.sync_all()).at("sync", &target)?;
    }
    fs::rename(&unfinished, copy).at("rename to", copy)?;
    sync_folder(files.root())
}

fn rewrite(connection: &mut Connection, path: &Path) -> Result<(), StoreError> {
    let shorten = |summary: &[u8], count: i64, start: i64, end: i64| {
        let summary = Summary::from_bytes(summary, count.cast_unsigned(), start, end);
        summary.map(|summary| summary.to_bytes()).map_err(|error| rusqlite::Error::UserFunctionError(Box::new(error)))
    };
    let flags = FunctionFlags::SQLITE_DETERMINISTIC | FunctionFlags::SQLITE_UTF8;
    let made = connection.create_scalar_function("shorter_summary", 4, flags, move |context| {
        let summary = context.get_raw(0).as_blob().map_err(|error| rusqlite::Error::UserFunctionError(Box::new(error)))?;
        shorten(summary, context.get(1)?, context.get(2)?, context.get(3)?)
    });
    made.at("rewrite", path)?;
    let transaction = connection.transaction().at("rewrite", path)?;
    let statements = format!(
        "DROP INDEX IF EXISTS block_place; ALTER TABLE block RENAME TO old_block; {SCHEMA}
         INSERT INTO block (id, series, start, end, generation, count, summary, bytes)
             SELECT id, series, start, end, 0, count, shorter_summary(summary, count, start, end), bytes FROM old_block;
         DROP TABLE old_block;"
    );
    transaction.execute_batch(&statements).and_then(|()| transaction.commit()).at("rewrite", path)?;
    connection.execute_batch("PRAGMA wal_checkpoint(TRUNCATE)").at("rewrite", path)
}
