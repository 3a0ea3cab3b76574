//! Backups: a copy of a live store, of one moment, as plain files.
//!
//! ```text
//! BACKUP/
//!   manifest.json                     what is here, and what is in the backup that this one builds on
//!   SHA256SUMS                        of every file, as `sha256sum --check` reads it
//!   catalogue.db
//!   access.db                         tokens and the record of changes
//!   secrets.db                        secrets, if requested
//!   data/DATASET/2026-05-07_7d.db     partitions, compact, without a log beside them
//!   rollup/DATASET/…                  windows, and records about them
//! ```
//!
//! Everything that was acknowledged is packed first. Then a snapshot is held: partitions are copied one after the other while the store
//! goes on, and blocks that came meanwhile are left out of the copies, so all of them are of one moment. A partition into which nothing
//! was packed since an earlier backup is not copied again when that one is named; windows of years that have passed neither. A stopped backup resumes: copies that
//! are whole already are kept.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs::{self, File},
    io::{self, Read, Write},
    path::{Path, PathBuf},
    sync::Arc,
};

use fenetre_core::model::DatasetId;
use rusqlite::Connection;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::{
    disk::{
        files::{companion, remove_file, sync_folder},
        sqlite,
    },
    engine::{Engine, Partitions},
    error::{Context, StoreError},
    head::Snapshot,
    missing::inventory,
    partition::{Partition, SCHEMA},
    read::census::packed_counts,
};

const MANIFEST: &str = "manifest.json";
const UNFINISHED: &str = "unfinished.json";
const SUMS: &str = "SHA256SUMS";
pub const CATALOGUE: &str = "catalogue.db";
const ACCESS: &str = "access.db";
const SECRETS: &str = "secrets.db";
const VERSION: u32 = 1;

/// How far a backup or a restore is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BackupProgress {
    /// Files that are done.
    pub done: usize,
    /// Files in all.
    pub files: usize,
    /// Bytes that were copied.
    pub bytes: u64,
}

/// What a backup contains.
#[derive(Clone, Copy, Debug, Default)]
pub struct BackupChoice<'p> {
    /// An earlier backup, whose unchanged partitions need not be copied again.
    pub since: Option<&'p Path>,
    /// Whether it contains the secrets of the store.
    pub with_secrets: bool,
}

impl<'p> From<Option<&'p Path>> for BackupChoice<'p> {
    fn from(since: Option<&'p Path>) -> Self {
        Self { since, with_secrets: false }
    }
}

/// What a backup or a restore did.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct BackupReport {
    /// Files that were copied.
    pub copied: usize,
    /// Files that an earlier backup has, or an earlier attempt had copied.
    pub kept: usize,
    /// Bytes that were copied.
    pub bytes: u64,
    /// Points in the partitions.
    pub points: u64,
    /// Damaged partitions, which the backup does not contain.
    pub damaged: Vec<String>,
}

/// What a backup holds.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct Manifest {
    version: u32,
    /// Blocks of generations before this one are in it.
    generation: u64,
    /// The backup whose files this one builds on, as it was named.
    since: Option<PathBuf>,
    /// Every file by its path below the backup.
    files: BTreeMap<String, Entry>,
    /// Partitions that were damaged, and are not in it.
    #[serde(default)]
    damaged: Vec<String>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
struct Entry {
    sha256: String,
    bytes: u64,
    points: u64,
    /// The highest generation that was packed into the partition.
    packed: u64,
    /// How often points had been taken out of it, or put back.
    #[serde(default)]
    edits: u64,
    /// Whether the file is in the earlier backup and not here.
    earlier: bool,
}

/// Backups that build on each other, at the most.
const MAX_BACKUPS: usize = 10_000;

impl Manifest {
    fn read(folder: &Path, name: &str) -> Result<Self, StoreError> {
        let path = folder.join(name);
        let text = fs::read_to_string(&path)
            .map_err(|error| StoreError::Backup(format!("{} is not a backup: cannot read {}: {error}", folder.display(), path.display())))?;
        let manifest: Self =
            serde_json::from_str(&text).map_err(|error| StoreError::Backup(format!("{} cannot be understood: {error}", path.display())))?;
        if manifest.version > VERSION {
            return Err(StoreError::Newer { path, found: manifest.version.into(), known: VERSION.into() });
        }
        Ok(manifest)
    }

    fn write(&self, folder: &Path, name: &str) -> Result<(), StoreError> {
        let text = serde_json::to_string_pretty(self).map_err(|error| StoreError::Backup(error.to_string()))?;
        write_for_good(folder, name, &text)
    }
}

/// Writes a small file, whole or not at all.
fn write_for_good(folder: &Path, name: &str, text: &str) -> Result<(), StoreError> {
    let path = folder.join(name);
    let part = companion(&path, ".part");
    let written = File::create(&part).and_then(|mut file| file.write_all(text.as_bytes()).and_then(|()| file.sync_all()));
    written.at("write", &part)?;
    fs::rename(&part, &path).at("rename to", &path)?;
    sync_folder(folder)
}

/// Checks whether a folder can hold a backup, before any work is done.
pub fn check_place(root: &Path, to: &Path, since: Option<&Path>) -> Result<(), StoreError> {
    let root = fs::canonicalize(root).at("find", root)?;
    let absolute = std::path::absolute(to).at("find", to)?;
    // Of a folder that is not there yet, what is there above it.
    if absolute.ancestors().find_map(|folder| fs::canonicalize(folder).ok()).is_some_and(|folder| folder.starts_with(&root)) {
        return Err(StoreError::Backup(format!("{} is inside the store: choose a folder outside {}", to.display(), root.display())));
    }
    if to.join(MANIFEST).exists() {
        let text = format!("{} contains a finished backup: choose another folder, or name this one with --since", to.display());
        return Err(StoreError::Backup(text));
    }
    let is_used = to.exists() && !to.join(UNFINISHED).exists() && fs::read_dir(to).at("read the folder", to)?.next().is_some();
    if is_used {
        return Err(StoreError::Backup(format!("{} is not empty and contains no unfinished backup: choose another folder", to.display())));
    }
    since.map_or(Ok(()), |since| Manifest::read(since, MANIFEST).map(|_| ()))
}

/// Writes a backup of everything that is packed.
pub fn write(
    shared: &Engine,
    to: &Path,
    choice: BackupChoice<'_>,
    progressed: &mut dyn FnMut(BackupProgress) -> bool,
) -> Result<BackupReport, StoreError> {
    fs::create_dir_all(to).at("create the folder", to)?;
    let since = choice.since.map(|folder| fs::canonicalize(folder).at("find", folder)).transpose()?;
    let earlier = since.as_ref().map(|folder| Manifest::read(folder, MANIFEST)).transpose()?;
    let begun = if to.join(UNFINISHED).exists() { Some(Manifest::read(to, UNFINISHED)?) } else { None };
    let mut manifest = Manifest { version: VERSION, generation: 0, since, files: BTreeMap::new(), damaged: Vec::new() };
    if begun.is_none() {
        manifest.write(to, UNFINISHED)?;
    }
    let mut progress = BackupProgress { done: 0, files: shared.partitions().len() + 1, bytes: 0 };
    let (rollups, moment) = copy_rollups(shared, to, &mut || progressed(progress))?;
    let Moment { snapshot, partitions } = moment;
    let before = snapshot.visible_before;
    let edited = shared.definitions.edits()?;
    manifest.generation = before;
    manifest.write(to, UNFINISHED)?;
    let mut report = BackupReport::default();
    progress.files = partitions.len() + 1;
    for partition in partitions.values() {
        if !progressed(progress) {
            return Err(StoreError::Stopped);
        }
        let name = shared.files.name_of(partition.path());
        let progressed = shared.unless_damaged(partition, partition.read(|reading| reading.progress()))?;
        let Some(packed) = progressed.map(|progress| progress.packed) else {
            report.damaged.push(name);
            continue;
        };
        let edits = edited.get(&name).copied().unwrap_or(0);
        // Nothing was packed into it since, nor taken out, so the copy that is there holds the same points.
        let is_same = |entry: &&Entry, known: &Manifest| entry.packed == packed && packed < known.generation && entry.edits == edits;
        let unchanged = |known: &Manifest| known.files.get(&name).filter(|entry| is_same(entry, known)).cloned();
        let kept_here = begun.as_ref().and_then(unchanged).filter(|entry| entry.earlier || is_whole(&to.join(&name), entry));
        let entry = match (earlier.as_ref().and_then(unchanged), kept_here) {
            (Some(entry), _) => Entry { earlier: true, ..entry },
            (None, Some(entry)) if !entry.earlier => entry,
            _ => {
                // Blocks may overlap, of points that came twice: each point counts once.
                let copied = copy_partition(partition, before, &to.join(&name)).and_then(|()| packed_counts(partition, &snapshot));
                let Some(counts) = shared.unless_damaged(partition, copied)? else {
                    // What is left of it is no copy.
                    remove_file(&to.join(&name))?;
                    report.damaged.push(name);
                    continue;
                };
                let points = counts.iter().filter(|(series, _)| series.is_whole()).map(|(_, count)| count.points).sum();
                let (sha256, bytes) = digest(&to.join(&name))?;
                report.copied += 1;
                report.bytes += bytes;
                Entry { sha256, bytes, points, packed, edits, earlier: false }
            }
        };
        report.points += entry.points;
        manifest.files.insert(name, entry);
        manifest.write(to, UNFINISHED)?;
        progress = BackupProgress { done: progress.done + 1, bytes: report.bytes, ..progress };
    }
    for path in rollups {
        let (sha256, bytes) = digest(&path)?;
        let name = path.strip_prefix(to).unwrap_or(&path).to_string_lossy().into_owned();
        // Years that have passed are the same file again.
        let is_there = earlier.as_ref().is_some_and(|known| known.files.get(&name).is_some_and(|entry| entry.sha256 == sha256));
        if is_there {
            remove_file(&path)?;
        } else {
            report.copied += 1;
            report.bytes += bytes;
        }
        manifest.files.insert(name, Entry { sha256, bytes, points: 0, packed: 0, edits: 0, earlier: is_there });
    }
    let access = to.join(ACCESS);
    remove_file(&access)?;
    if copy_access(&shared.files.access(), &access)? {
        note_copy(to, ACCESS, &mut manifest, &mut report)?;
    }
    let secrets = to.join(SECRETS);
    remove_file(&secrets)?;
    if choice.with_secrets && shared.secrets.copy_to(&secrets)? {
        note_copy(to, SECRETS, &mut manifest, &mut report)?;
    }
    // The catalogue last: whatever the blocks refer to is in it.
    let catalogue = to.join(CATALOGUE);
    remove_file(&catalogue)?;
    shared.definitions.copy_to(&catalogue)?;
    // Blocks that are missing because of damage are reported when it is restored.
    let must_be_there: BTreeSet<String> = manifest.files.keys().chain(&report.damaged).cloned().collect();
    inventory::keep_only(&catalogue, &must_be_there)?;
    note_copy(to, CATALOGUE, &mut manifest, &mut report)?;
    report.kept = manifest.files.len() - report.copied;
    manifest.damaged.clone_from(&report.damaged);
    write_sums(to, &manifest)?;
    manifest.write(to, MANIFEST)?;
    remove_file(&to.join(UNFINISHED))?;
    progressed(BackupProgress { done: progress.files, bytes: report.bytes, ..progress });
    Ok(report)
}

/// Adds a copied file to the manifest and the report.
fn note_copy(to: &Path, name: &str, manifest: &mut Manifest, report: &mut BackupReport) -> Result<(), StoreError> {
    let (sha256, bytes) = digest(&to.join(name))?;
    report.copied += 1;
    report.bytes += bytes;
    manifest.files.insert(name.to_owned(), Entry { sha256, bytes, points: 0, packed: 0, edits: 0, earlier: false });
    Ok(())
}

/// What a backup holds until its end.
struct Moment {
    /// So that compaction does not mix what was packed before with what comes later.
    snapshot: Snapshot,
    /// One that is dropped meanwhile stays until then.
    partitions: Arc<Partitions>,
}

/// Copies the windows of rollups, then fixes the moment of the backup together with their records: late points that are packed before it have a
/// mark there, and what is packed after it is in neither.
fn copy_rollups(shared: &Engine, to: &Path, go_on: &mut dyn FnMut() -> bool) -> Result<(Vec<PathBuf>, Moment), StoreError> {
    let datasets: Vec<(DatasetId, String)> = shared.catalogue.read().datasets().map(|dataset| (dataset.id, dataset.folder.to_string())).collect();
    let mut all = Vec::new();
    for (id, folder) in datasets {
        all.extend(shared.rollups.of(shared, id)?.map(|rollups| (id, to.join("rollup").join(folder), rollups)));
    }
    let mut copies = Vec::new();
    let _nobody_makes_windows: Vec<_> = all.iter().map(|(.., rollups)| rollups.alone()).collect();
    for (_, folder, rollups) in &all {
        copies.extend(rollups.copy_windows(folder, go_on)?);
    }
    let quiet: Vec<_> = all.iter().map(|(_, folder, rollups)| (folder, rollups.quiet())).collect();
    for (folder, quiet) in &quiet {
        copies.push(quiet.copy_to(folder)?);
    }
    Ok((copies, Moment { snapshot: shared.snapshot(), partitions: shared.partitions() }))
}

/// Copies the file of tokens and changes, if the store has one; says whether it has.
fn copy_access(from: &Path, to: &Path) -> Result<bool, StoreError> {
    if !from.exists() {
        return Ok(false);
    }
    let connection = sqlite::open(from, sqlite::Use::Records)?;
    connection.execute("VACUUM INTO ?1", [to.to_string_lossy()]).at("copy", from)?;
    Ok(true)
}

/// Copies the blocks of generations before one into a new file.
fn copy_partition(partition: &Partition, before: u64, to: &Path) -> Result<(), StoreError> {
    if let Some(folder) = to.parent() {
        fs::create_dir_all(folder).at("create the folder", folder)?;
    }
    remove_file(to)?;
    partition.copy_to(to)?;
    let connection = Connection::open(to).at("open", to)?;
    let trim = || -> rusqlite::Result<()> {
        connection.pragma_update(None, "journal_mode", "DELETE")?;
        // One whose first packing failed has no tables yet.
        connection.execute_batch(SCHEMA)?;
        let later = connection.execute("DELETE FROM block WHERE generation >= ?1", [before.cast_signed()])?;
        if later > 0 {
            let packed = i32::try_from(before.saturating_sub(1)).unwrap_or(i32::MAX);
            connection.pragma_update(None, "user_version", packed)?;
            connection.execute_batch("VACUUM")?;
        }
        Ok(())
    };
    trim().at("write", to)
}

fn is_whole(path: &Path, entry: &Entry) -> bool {
    digest(path).is_ok_and(|(sha256, _)| sha256 == entry.sha256)
}

/// SHA-256 of a file in hexadecimal, and its length. What was read is on stable storage, since a checksum of anything else proves nothing.
fn digest(path: &Path) -> Result<(String, u64), StoreError> {
    let mut file = File::open(path).at("open", path)?;
    file.sync_all().at("sync", path)?;
    let (mut hash, mut buffer, mut bytes) = (Sha256::new(), vec![0; 1 << 16], 0);
    loop {
        let length = match file.read(&mut buffer) {
            Ok(0) => break,
            Ok(length) => length,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(error) => return Err(error).at("read", path),
        };
        hash.update(&buffer[..length]);
        bytes += length as u64;
    }
    Ok((hash.finalize().iter().map(|byte| format!("{byte:02x}")).collect(), bytes))
}

fn write_sums(to: &Path, manifest: &Manifest) -> Result<(), StoreError> {
    let here = manifest.files.iter().filter(|(_, entry)| !entry.earlier);
    let text: String = here.map(|(name, entry)| format!("{}  {name}\n", entry.sha256)).collect();
    write_for_good(to, SUMS, &text)
}

/// Makes a store of a backup, in a folder that is empty or missing. Every file is compared with its checksum before anything is kept;
/// a stopped one resumes.
///
/// # Errors
/// If the backup is not whole, the folder is in use, or files fail.
pub fn restore(from: &Path, to: &Path, progressed: &mut dyn FnMut(BackupProgress) -> bool) -> Result<BackupReport, StoreError> {
    let manifest = Manifest::read(from, MANIFEST)?;
    let unfinished = companion(to, ".restoring");
    if to.exists() && fs::read_dir(to).at("read the folder", to)?.next().is_some() {
        return Err(StoreError::Backup(format!("{} is not empty: choose another folder for the store", to.display())));
    }
    fs::create_dir_all(&unfinished).at("create the folder", &unfinished)?;
    let mut report = BackupReport::default();
    let mut progress = BackupProgress { done: 0, files: manifest.files.len(), bytes: 0 };
    for (name, entry) in &manifest.files {
        if !progressed(progress) {
            return Err(StoreError::Stopped);
        }
        let source = source_of(from, &manifest, name, entry)?;
        let target = unfinished.join(name);
        if is_whole(&target, entry) {
            report.kept += 1;
        } else {
            if let Some(folder) = target.parent() {
                fs::create_dir_all(folder).at("create the folder", folder)?;
            }
            fs::copy(&source, &target).at("copy to", &target)?;
            if !is_whole(&target, entry) {
                let text = format!("{} is damaged: its checksum is not {}, the recorded one. Nothing was restored", source.display(), entry.sha256);
                return Err(StoreError::Backup(text));
            }
            report.copied += 1;
            report.bytes += entry.bytes;
        }
        report.points += entry.points;
        progress = BackupProgress { done: progress.done + 1, bytes: report.bytes, ..progress };
    }
    check_entries(from, &manifest, &unfinished.join(CATALOGUE))?;
    if to.exists() {
        fs::remove_dir(to).at("replace", to)?;
    }
    fs::rename(&unfinished, to).at("rename to", to)?;
    to.parent().filter(|parent| !parent.as_os_str().is_empty()).map_or(Ok(()), sync_folder)?;
    progressed(progress);
    Ok(report)
}

/// Compares the entries of a manifest with the partitions that the backup's catalogue names: an entry that somebody removed is a file that is missing.
fn check_entries(from: &Path, manifest: &Manifest, catalogue: &Path) -> Result<(), StoreError> {
    let is_known = |name: &String| manifest.files.contains_key(name) || manifest.damaged.contains(name);
    let named = if catalogue.exists() { inventory::partitions_in(catalogue)? } else { vec![CATALOGUE.to_owned()] };
    match named.iter().find(|name| !is_known(name)) {
        Some(name) => Err(StoreError::Backup(format!(
            "{} does not list {name}, which belongs to this backup: the file was changed. Nothing was restored",
            from.join(MANIFEST).display()
        ))),
        None => Ok(()),
    }
}

/// A finished backup whose files are taken one by one.
pub struct Backup {
    folder: PathBuf,
    manifest: Manifest,
}

impl Backup {
    pub fn open(folder: &Path) -> Result<Self, StoreError> {
        Ok(Self { manifest: Manifest::read(folder, MANIFEST)?, folder: folder.to_owned() })
    }

    pub fn has(&self, name: &str) -> bool {
        self.manifest.files.contains_key(name)
    }

    /// Where a file is, once its checksum was found right.
    pub fn file(&self, name: &str) -> Result<PathBuf, StoreError> {
        let entry = self
            .manifest
            .files
            .get(name)
            .ok_or_else(|| StoreError::Backup(format!("the backup {} does not contain {name}", self.folder.display())))?;
        let path = source_of(&self.folder, &self.manifest, name, entry)?;
        if is_whole(&path, entry) {
            return Ok(path);
        }
        Err(StoreError::Backup(format!("{} is damaged: its checksum is not {}, the recorded one", path.display(), entry.sha256)))
    }
}

/// Where a file of a backup is: there, or in the one that it builds on, or in the one before that.
fn source_of(from: &Path, manifest: &Manifest, name: &str, entry: &Entry) -> Result<PathBuf, StoreError> {
    // The name comes from a file that anybody may have changed: it must not lead out of the backup.
    let is_plain = Path::new(name).components().all(|part| matches!(part, std::path::Component::Normal(_)));
    if !is_plain {
        return Err(StoreError::Backup(format!("the backup {} names the file {name}, which lies outside", from.display())));
    }
    let missing = || StoreError::Backup(format!("{name} is in no backup that {} builds on", from.display()));
    let (mut folder, mut since, mut is_here) = (from.to_owned(), manifest.since.clone(), !entry.earlier);
    for _ in 0..MAX_BACKUPS {
        if is_here {
            return Ok(folder.join(name));
        }
        let earlier = since.ok_or_else(missing)?;
        // A backup that was moved together with the one that it builds on is still found beside it. It never builds on itself.
        let beside = folder.parent().and_then(|parent| Some(parent.join(earlier.file_name()?))).filter(|beside| *beside != folder);
        let earlier = if earlier.join(MANIFEST).exists() { earlier } else { beside.unwrap_or(earlier) };
        let before = Manifest::read(&earlier, MANIFEST)?;
        let known = before.files.get(name).filter(|known| known.sha256 == entry.sha256).ok_or_else(missing)?;
        (is_here, since, folder) = (!known.earlier, before.since, earlier);
    }
    Err(missing())
}
