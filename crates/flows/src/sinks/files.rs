//! Writes batches as files into a folder. A file is complete before it has its name.

use std::{
    fs::{self, File},
    io::{self, BufWriter, Write},
    path::{Path, PathBuf},
};

use fenetre_core::time::{Nanos, format_utc};
use fenetre_store::Secrets;

use super::{
    definition::{FileFormat, Files},
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
}

impl FileWriter {
    /// For a definition that was checked.
    pub fn new(sink: String, files: Files) -> Self {
        Self { sink, files }
    }

    /// The path of the file of a batch. It depends on the start of the batch alone, so that a batch that is written again replaces its file.
    fn path(&self, batch: &Outgoing, first: Nanos) -> PathBuf {
        let text = format_utc(first);
        let (date, hour) = (text.get(..10).unwrap_or_default(), text.get(11..13).unwrap_or_default());
        let name = self.files.pattern().replace("{dataset}", &self.files.dataset).replace("{date}", date).replace("{hour}", hour);
        let name = name.replace("{part}", &format!("{}-{}", self.sink, batch.id));
        self.files.path.join(format!("{name}.{}", self.files.format.ending()))
    }
}

impl Destination for FileWriter {
    fn send(&mut self, batch: &Outgoing, _: &Secrets) -> Result<Receipt, Undelivered> {
        let Some((first, _)) = batch.span() else { return Ok(Receipt::default()) };
        let path = self.path(batch, first);
        let bytes = write(batch, self.files.format, &self.files.path, &path)
            .map_err(|error| Undelivered::Failed(FlowError::File { action: "write", path: path.display().to_string(), reason: error.to_string() }))?;
        Ok(Receipt { bytes, ..Receipt::default() })
    }

    fn preview(&self, batch: &Outgoing) -> Result<String, FlowError> {
        text_of(|out| match self.files.format {
            FileFormat::JsonLines => encode::json_lines(batch, out),
            FileFormat::Csv | FileFormat::Parquet => encode::csv(batch, out),
        })
    }
}

/// Writes a file under another name, and renames it when it is on stable storage. Returns its size in bytes.
fn write(batch: &Outgoing, format: FileFormat, root: &Path, path: &Path) -> io::Result<u64> {
    let folder = path.parent().unwrap_or(root);
    fs::create_dir_all(folder)?;
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let beside = folder.join(format!(".{name}.part"));
    let written = (|| {
        let mut out = BufWriter::new(File::create(&beside)?);
        match format {
            FileFormat::Parquet => encode::parquet(batch, &mut out)?,
            FileFormat::Csv => encode::csv(batch, &mut out)?,
            FileFormat::JsonLines => encode::json_lines(batch, &mut out)?,
        }
        out.flush()?;
        let file = out.into_inner().map_err(io::IntoInnerError::into_error)?;
        file.sync_all()?;
        let bytes = file.metadata()?.len();
        fs::rename(&beside, path)?;
        File::open(folder)?.sync_all()?;
        Ok(bytes)
    })();
    if written.is_err() {
        // The next attempt starts over; the failure is reported below.
        let _ = fs::remove_file(&beside);
    }
    written
}
