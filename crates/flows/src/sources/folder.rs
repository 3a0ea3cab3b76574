//! Files from a folder: each is read once it has stopped growing, and moved away, deleted or left.

use std::{
    collections::BTreeMap,
    fs,
    io::Read,
    path::{Path, PathBuf},
    time::{Duration, Instant, SystemTime, UNIX_EPOCH},
};

use fenetre_core::time::Nanos;
use fenetre_formats::{
    Format,
    unpack::{Encoding, unpack},
};

use fenetre_wire::sources::SourcePart;

use super::{Body, Outcome, Round, Source, take};
use crate::{
    definition::{After, Folder},
    error::FlowError,
    progress::{Progress, Stamp},
};

const DEFAULT_BYTES: u64 = 256_000_000;
/// A file that was not written for this time has stopped growing.
const AT_REST: Duration = Duration::from_secs(2);
const DONE: &str = "done";
const FAILED: &str = "failed";

/// A source that takes files.
pub struct FolderSource {
    folder: Folder,
    /// Files that stay, by name, as they were when they were read; `None` before the first round.
    read: Option<BTreeMap<String, Stamp>>,
}

impl FolderSource {
    /// A source of a definition that was checked.
    pub fn new(folder: Folder) -> Self {
        Self { folder, read: None }
    }

    /// Names of files that are at rest and were not read yet, in order.
    fn waiting(&self) -> Result<Vec<(String, Stamp)>, FlowError> {
        let path = &self.folder.path;
        let fault =
            |error: std::io::Error| FlowError::File { action: "read the folder", path: path.display().to_string(), reason: error.to_string() };
        let mut found = Vec::new();
        for entry in fs::read_dir(path).map_err(fault)? {
            let entry = entry.map_err(fault)?;
            let (Ok(name), Ok(about)) = (entry.file_name().into_string(), entry.metadata()) else { continue };
            let fits = self.folder.pattern.as_ref().is_none_or(|pattern| pattern.fits(&name));
            // A name that begins with a dot is that of a file that is being written.
            if !about.is_file() || !fits || name.starts_with('.') {
                continue;
            }
            let written = about.modified().ok();
            let stamp = Stamp { bytes: about.len(), changed: written.and_then(nanos).unwrap_or(0) };
            let is_at_rest = written.is_none_or(|written| written.elapsed().is_ok_and(|passed| passed >= AT_REST));
            if is_at_rest && self.read.as_ref().and_then(|read| read.get(&name)) != Some(&stamp) {
                found.push((name, stamp));
            }
        }
        found.sort();
        Ok(found)
    }

    fn read_file(&self, name: &str, round: &Round<'_>) -> Result<Outcome, FlowError> {
        let path = self.folder.path.join(name);
        let fault = |reason: String| FlowError::File { action: "read", path: path.display().to_string(), reason };
        let format =
            self.folder.format.or_else(|| Format::of_name(name)).ok_or_else(|| fault("its name gives no format: set `format`".to_owned()))?;
        let limit = self.folder.max_bytes.unwrap_or(DEFAULT_BYTES);
        let mut bytes = Vec::new();
        let file = fs::File::open(&path).map_err(|error| fault(error.to_string()))?;
        file.take(limit + 1).read_to_end(&mut bytes).map_err(|error| fault(error.to_string()))?;
        let too_large = || fault(format!("it has more than {limit} bytes (`max_bytes`): use `fenetre import`, which takes files of any size"));
        if bytes.len() as u64 > limit {
            return Err(too_large());
        }
        let encoding = match bytes.as_slice() {
            [0x1f, 0x8b, ..] => Encoding::Gzip,
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Encoding::Zstd,
            _ => Encoding::Identity,
        };
        let bytes = unpack(encoding, bytes, usize::try_from(limit).unwrap_or(usize::MAX)).map_err(|error| fault(error.to_string()))?;
        let body =
            Body { dataset: &self.folder.dataset, format, mapping: self.folder.mapping.clone(), tags: &self.folder.tags, bytes, at: Some(name) };
        let outcome = take(round, body)?;
        let rejected = outcome.rejects.count();
        if outcome.points == 0 && rejected > 0 {
            return Err(fault(format!("all {rejected} rows were rejected: {}", outcome.rejects.sample().unwrap_or_default())));
        }
        Ok(outcome)
    }

    /// What is read, for the record of files that stay.
    fn subject(&self) -> String {
        self.folder.path.display().to_string()
    }

    /// Reads the record of files that stay. A trial looks at all files.
    fn recall(&mut self, round: &Round<'_>) -> Result<(), FlowError> {
        if let (After::Keep, None, Some(name)) = (self.folder.after, &self.read, round.name) {
            let kept = Progress::load(&round.intake.store, name)?.filter(|progress| progress.subject == self.subject());
            self.read = Some(kept.map(|progress| progress.files).unwrap_or_default());
        }
        Ok(())
    }

    /// Stores the record of files that stay. Those that are gone are forgotten.
    fn remember(&mut self, round: &Round<'_>) -> Result<(), FlowError> {
        let (Some(read), Some(name)) = (&mut self.read, round.name) else { return Ok(()) };
        read.retain(|file, _| self.folder.path.join(file).exists());
        let progress = Progress { subject: self.folder.path.display().to_string(), watermark: None, files: read.clone() };
        Ok(progress.save(&round.intake.store, name, (round.clock)())?)
    }

    /// What becomes of a file that was read, or could not be.
    fn put_away(&mut self, name: &str, stamp: Stamp, is_read: bool) -> Result<(), FlowError> {
        let from = self.folder.path.join(name);
        match (self.folder.after, is_read) {
            (After::Keep, _) => {
                self.read.get_or_insert_default().insert(name.to_owned(), stamp);
                Ok(())
            }
            (After::Delete, true) => fs::remove_file(&from).map_err(|error| FlowError::File {
                action: "delete",
                path: from.display().to_string(),
                reason: error.to_string(),
            }),
            (_, is_read) => move_into(&self.folder.path.join(if is_read { DONE } else { FAILED }), &from, name),
        }
    }
}

fn nanos(time: SystemTime) -> Option<Nanos> {
    time.duration_since(UNIX_EPOCH).ok().and_then(|since| Nanos::try_from(since.as_nanos()).ok())
}

/// Moves a file into a folder. One of the same name there is not overwritten.
fn move_into(folder: &Path, from: &Path, name: &str) -> Result<(), FlowError> {
    let fault = |error: std::io::Error| FlowError::File { action: "move", path: from.display().to_string(), reason: error.to_string() };
    fs::create_dir_all(folder).map_err(fault)?;
    let free = |to: &PathBuf| !to.exists();
    let numbered = (1..10_000).map(|number| folder.join(format!("{number}-{name}")));
    let to = std::iter::once(folder.join(name)).chain(numbered).find(free);
    let to = to.ok_or_else(|| fault(std::io::Error::other("there are too many files of that name")))?;
    fs::rename(from, to).map_err(fault)
}

impl Source for FolderSource {
    fn round(&mut self, round: &Round<'_>) -> Result<Outcome, FlowError> {
        self.recall(round)?;
        let mut all = Outcome::default();
        for (name, stamp) in self.waiting()? {
            if (round.stop)() {
                break;
            }
            let begun = Instant::now();
            let outcome = self.read_file(&name, round);
            let seconds = begun.elapsed().as_secs_f64();
            let now = (round.clock)();
            let (error, points) = match outcome {
                Ok(outcome) => {
                    let (points, rejected) = (outcome.points, outcome.rejects.count());
                    all.add(outcome, round.shown);
                    let rejects = if rejected > 0 { format!(", {rejected} rejected") } else { String::new() };
                    round.events.add(now, false, format!("{name}: {points} points{rejects}"));
                    (None, points)
                }
                // A store that cannot take points now will take them later: the file stays.
                Err(error @ FlowError::Store(_)) => return Err(error),
                Err(error) => {
                    round.events.add(now, true, error.to_string());
                    (Some(error.to_string()), 0)
                }
            };
            if round.shown.is_none() {
                self.put_away(&name, stamp, error.is_none())?;
            }
            all.parts.push(SourcePart { name, error, points, seconds, ..SourcePart::default() });
        }
        if self.folder.after == After::Keep && round.shown.is_none() && !all.parts.is_empty() {
            self.remember(round)?;
        }
        Ok(all)
    }
}
