//! Writes batches as files, into a folder or an object store. A file is complete before it has its name.

use std::{
    fs::{self, File},
    io::{self, BufWriter, Write},
    path::{Path, PathBuf},
};

use fenetre_core::time::{Nanos, format_utc};
use fenetre_store::Secrets;

#[cfg(feature = "s3")]
use super::bucket::Bucket;
use super::{
    definition::{FileFormat, FilePlace, Files},
    destination::{Destination, Receipt, Undelivered, text_of},
    encode,
    outgoing::Outgoing,
};
use crate::error::FlowError;

/// Writes files.
pub struct FileWriter {
    /// The name of the sink.
    sink: String,
    files: Files,
    place: FilePlace,
    #[cfg(feature = "s3")]
    bucket: Option<Bucket>,
}

/// A file that a trial writes and removes.
const PROBE: &str = ".fenetre-try";

impl FileWriter {
    /// For a definition that was checked.
    ///
    /// # Errors
    /// [`FlowError::Kind`] if this build lacks object stores.
    pub fn new(sink: String, files: Files) -> Result<Self, FlowError> {
        let place = files.place().map_err(FlowError::Definition)?;
        #[cfg(not(feature = "s3"))]
        if let FilePlace::Bucket { .. } = place {
            return Err(FlowError::Kind("s3"));
        }
        Ok(Self {
            sink,
            files,
            place,
            #[cfg(feature = "s3")]
            bucket: None,
        })
    }

    /// The name of the file of a batch. It depends on the start of the batch alone, so that a batch that is written again replaces its file.
    fn name(&self, batch: &Outgoing, first: Nanos) -> String {
        let text = format_utc(first);
        let (date, hour) = (text.get(..10).unwrap_or_default(), text.get(11..13).unwrap_or_default());
        let name = self.files.pattern().replace("{dataset}", &self.files.dataset).replace("{date}", date).replace("{hour}", hour);
        let name = name.replace("{part}", &format!("{}-{}", self.sink, batch.id));
        format!("{name}.{}", self.files.format.ending())
    }

    /// Writes an object.
    #[cfg(feature = "s3")]
    fn put(&mut self, prefix: &str, name: &str, bytes: Vec<u8>, secrets: &Secrets) -> Result<u64, FlowError> {
        let key = if prefix.is_empty() { name.to_owned() } else { format!("{prefix}/{name}") };
        let size = bytes.len() as u64;
        // Secrets may have changed since the latest batch.
        let bucket = Bucket::open(self.bucket.take(), &self.files, secrets)?;
        self.bucket.insert(bucket).put(&key, bytes)?;
        Ok(size)
    }

    fn write(&mut self, batch: &Outgoing, name: &str, secrets: &Secrets) -> Result<u64, Undelivered> {
        match self.place.clone() {
            FilePlace::Folder(folder) => {
                let path = folder.join(name);
                let format = self.files.format;
                into_folder(&folder, &path, |out| encoded(batch, format, out)).map_err(|error| fault("write", &path, &error).into())
            }
            #[cfg(feature = "s3")]
            FilePlace::Bucket { prefix, .. } => {
                let mut bytes = Vec::new();
                encoded(batch, self.files.format, &mut bytes).map_err(|error| super::destination::unwritable(&error))?;
                Ok(self.put(&prefix, name, bytes, secrets)?)
            }
            #[cfg(not(feature = "s3"))]
            FilePlace::Bucket { .. } => {
                let _ = secrets;
                Err(FlowError::Kind("s3").into())
            }
        }
    }
}

fn fault(action: &'static str, path: &Path, error: &io::Error) -> FlowError {
    FlowError::File { action, path: path.display().to_string(), reason: error.to_string() }
}

fn encoded(batch: &Outgoing, format: FileFormat, out: &mut (impl Write + Send)) -> io::Result<()> {
    match format {
        FileFormat::Parquet => encode::parquet(batch, out),
        FileFormat::Csv => encode::csv(batch, out),
        FileFormat::JsonLines => encode::json_lines(batch, out),
    }
}

impl Destination for FileWriter {
    fn send(&mut self, batch: &Outgoing, secrets: &Secrets) -> Result<Receipt, Undelivered> {
        let Some((first, _)) = batch.span() else { return Ok(Receipt::default()) };
        let bytes = self.write(batch, &self.name(batch, first), secrets)?;
        Ok(Receipt { bytes, ..Receipt::default() })
    }

    fn attempt(&mut self, _: &Outgoing, secrets: &Secrets) -> Result<Option<String>, FlowError> {
        match self.place.clone() {
            FilePlace::Folder(folder) => {
                let path = folder.join(PROBE);
                into_folder(&folder, &path, |_| Ok(())).and_then(|_| fs::remove_file(&path)).map_err(|error| fault("write", &path, &error))?;
            }
            #[cfg(feature = "s3")]
            FilePlace::Bucket { prefix, .. } => {
                self.put(&prefix, PROBE, Vec::new(), secrets)?;
                let key = if prefix.is_empty() { PROBE.to_owned() } else { format!("{prefix}/{PROBE}") };
                if let Some(bucket) = &self.bucket {
                    bucket.remove(&key)?;
                }
            }
            #[cfg(not(feature = "s3"))]
            FilePlace::Bucket { .. } => {
                let _ = secrets;
                return Err(FlowError::Kind("s3"));
            }
        }
        Ok(Some("a file can be written there".to_owned()))
    }

    fn preview(&self, batch: &Outgoing) -> Result<String, FlowError> {
        text_of(|out| match self.files.format {
            FileFormat::JsonLines => encode::json_lines(batch, out),
            FileFormat::Csv | FileFormat::Parquet => encode::csv(batch, out),
        })
    }
}

/// Writes a file under another name, and renames it when it is on stable storage. Returns its size in bytes.
fn into_folder(root: &Path, path: &Path, write: impl FnOnce(&mut BufWriter<File>) -> io::Result<()>) -> io::Result<u64> {
    let folder = path.parent().unwrap_or(root);
    fs::create_dir_all(folder)?;
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let beside: PathBuf = folder.join(format!(".{name}.part"));
    let written = (|| {
        let mut out = BufWriter::new(File::create(&beside)?);
        write(&mut out)?;
        out.flush()?;
        let file = out.into_inner().map_err(io::IntoInnerError::into_error)?;
        file.sync_all()?;
        let bytes = file.metadata()?.len();
        fs::rename(&beside, path)?;
        File::open(folder)?.sync_all()?;
        Ok(bytes)
    })();
    if written.is_err() {
        // The next attempt starts over; the failure is reported by the caller.
        let _ = fs::remove_file(&beside);
    }
    written
}
