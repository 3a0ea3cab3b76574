//! Batches that a destination refused. They are kept as files until a user sends them again or removes them.
//!
//! ```text
//! STORE/aside/SINK/000001.ndjson     first line: the reason and other facts; then a point per line, as a push takes it
//! ```
//!
//! The points are kept for inspection. A batch is sent again with the current values of the store, in the shape of the current
//! definition: a point may have been replaced and sent since, and the definition corrected.

use std::{
    fs::{self, File},
    io::{self, BufRead, BufReader, BufWriter, Write},
    path::PathBuf,
};

use fenetre_core::{
    model::SeriesId,
    time::{Nanos, format_utc, parse_rfc3339},
};
use fenetre_wire::sinks::AsideBatch;
use serde::{Deserialize, Serialize};

use super::{encode, outgoing::Outgoing};
use crate::error::FlowError;

/// Maximum number of batches of one sink.
const MAX_BATCHES: usize = 1_000;
/// Maximum size of the batches of one sink, in bytes.
const MAX_BYTES: u64 = 1 << 30;

/// The first line of a file.
#[derive(Serialize, Deserialize)]
struct Head {
    #[serde(flatten)]
    facts: AsideBatch,
    /// Series and times of its points.
    points_of: Vec<(SeriesId, Vec<Nanos>)>,
}

/// The batches of a store that were set aside.
#[derive(Clone, Debug)]
pub struct Aside {
    folder: PathBuf,
}

impl Aside {
    /// Those in a folder, which is made when the first batch comes.
    pub fn new(folder: PathBuf) -> Self {
        Self { folder }
    }

    fn of(&self, sink: &str) -> PathBuf {
        self.folder.join(sink)
    }

    fn path(&self, sink: &str, id: u64) -> PathBuf {
        self.of(sink).join(format!("{id:06}.ndjson"))
    }

    /// Numbers of the batches of a sink, oldest first.
    ///
    /// # Errors
    /// If the folder cannot be read.
    pub fn ids(&self, sink: &str) -> Result<Vec<u64>, FlowError> {
        let folder = self.of(sink);
        let entries = match fs::read_dir(&folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(fault("read the folder", &folder, &error)),
        };
        let mut ids = Vec::new();
        for entry in entries {
            let path = entry.map_err(|error| fault("read the folder", &folder, &error))?.path();
            let is_batch = path.extension().is_some_and(|ending| ending == "ndjson");
            ids.extend(path.file_stem().filter(|_| is_batch).and_then(|stem| stem.to_str()?.parse::<u64>().ok()));
        }
        ids.sort_unstable();
        Ok(ids)
    }

    /// Number of batches of a sink.
    ///
    /// # Errors
    /// If the folder cannot be read.
    pub fn count(&self, sink: &str) -> Result<u64, FlowError> {
        Ok(self.ids(sink)?.len() as u64)
    }

    /// Keeps a batch. When this returns, it is on stable storage.
    ///
    /// # Errors
    /// If there are too many, or it cannot be written.
    pub fn add(&self, sink: &str, now: Nanos, reason: &str, batch: &Outgoing) -> Result<(), FlowError> {
        let (ids, folder) = (self.ids(sink)?, self.of(sink));
        let size = |id: &u64| fs::metadata(self.path(sink, *id)).map_or(0, |data| data.len());
        if ids.len() >= MAX_BATCHES || ids.iter().map(size).sum::<u64>() >= MAX_BYTES {
            return Err(FlowError::Peer(format!(
                "{reason}; and no more batches can be set aside: send the {} that wait with `fenetre sink resend {sink}`, or remove them",
                ids.len()
            )));
        }
        fs::create_dir_all(&folder).map_err(|error| fault("create the folder", &folder, &error))?;
        let id = ids.last().map_or(1, |last| last + 1);
        let (first, last) = batch.span().unwrap_or_default();
        let facts = AsideBatch {
            id,
            time: format_utc(now),
            reason: reason.to_owned(),
            points: batch.points() as u64,
            first: format_utc(first),
            last: format_utc(last),
        };
        let points_of: Vec<_> = batch.stretches.iter().map(|stretch| (stretch.id, stretch.times.clone())).collect();
        let head = Head { facts, points_of };
        let (path, beside) = (self.path(sink, id), folder.join("new"));
        let write = || -> io::Result<()> {
            let mut out = BufWriter::new(File::create(&beside)?);
            serde_json::to_writer(&mut out, &head)?;
            out.write_all(b"\n")?;
            encode::json_lines(batch, &mut out)?;
            out.into_inner().map_err(io::IntoInnerError::into_error)?.sync_all()?;
            fs::rename(&beside, &path)?;
            File::open(&folder)?.sync_all()
        };
        write().map_err(|error| fault("write", &path, &error))
    }

    fn open(&self, sink: &str, id: u64) -> Result<(Head, BufReader<File>), FlowError> {
        let path = self.path(sink, id);
        let file = File::open(&path).map_err(|error| match error.kind() {
            io::ErrorKind::NotFound => FlowError::Definition(format!("no batch {id} of the sink `{sink}` is set aside")),
            _ => fault("read", &path, &error),
        })?;
        let (mut reader, mut line) = (BufReader::new(file), String::new());
        reader.read_line(&mut line).map_err(|error| fault("read", &path, &error))?;
        let head = serde_json::from_str(&line).map_err(|error| fault("read the first line of", &path, &error.into()))?;
        Ok((head, reader))
    }

    /// The batches of a sink, oldest first.
    ///
    /// # Errors
    /// If one cannot be read.
    pub fn list(&self, sink: &str) -> Result<Vec<AsideBatch>, FlowError> {
        self.ids(sink)?.into_iter().map(|id| self.open(sink, id).map(|(head, _)| head.facts)).collect()
    }

    /// The points of a batch, an object per line, to read.
    ///
    /// # Errors
    /// If there is none, or it cannot be read.
    pub fn lines(&self, sink: &str, id: u64) -> Result<impl BufRead + use<>, FlowError> {
        self.open(sink, id).map(|(_, reader)| reader)
    }

    /// Series and times of the points of a batch, to send them again.
    ///
    /// # Errors
    /// If there is none, or it cannot be read.
    pub fn points_of(&self, sink: &str, id: u64) -> Result<Vec<(SeriesId, Vec<Nanos>)>, FlowError> {
        self.open(sink, id).map(|(head, _)| head.points_of)
    }

    /// Times of the first and the last point of a batch.
    ///
    /// # Errors
    /// If there is none, or it cannot be read.
    pub fn span_of(&self, sink: &str, id: u64) -> Result<(Nanos, Nanos), FlowError> {
        let AsideBatch { first, last, .. } = self.open(sink, id)?.0.facts;
        let time = |text: &str| parse_rfc3339(text).map_err(|error| FlowError::Definition(format!("the batch {id} of the sink `{sink}`: {error}")));
        Ok((time(&first)?, time(&last)?))
    }

    /// Removes a batch.
    ///
    /// # Errors
    /// If there is none, or it cannot be removed.
    pub fn remove(&self, sink: &str, id: u64) -> Result<(), FlowError> {
        self.open(sink, id)?;
        let path = self.path(sink, id);
        fs::remove_file(&path).map_err(|error| fault("remove", &path, &error))
    }

    /// Removes all batches of a sink.
    ///
    /// # Errors
    /// If they cannot be removed.
    pub fn remove_all(&self, sink: &str) -> Result<(), FlowError> {
        let folder = self.of(sink);
        match fs::remove_dir_all(&folder) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(fault("remove", &folder, &error)),
            _ => Ok(()),
        }
    }
}

fn fault(action: &'static str, path: &std::path::Path, error: &io::Error) -> FlowError {
    FlowError::File { action, path: path.display().to_string(), reason: error.to_string() }
}
