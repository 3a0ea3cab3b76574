//! Imports: options, the first rows, and the record of each.

use std::collections::BTreeMap;

use fenetre_core::{
    model::Cause,
    time::{Nanos, parse_rfc3339},
};
use fenetre_formats::{
    Format, Reject, Tally,
    mapping::{Mapping, guess::Guess},
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Options of an import.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ImportOrder {
    /// Name of a stored mapping.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mapping_name: Option<String>,
    /// A mapping; if a name is given as well, it overrides parts of that mapping.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mapping: Option<Mapping>,
    /// Read everything, store nothing.
    pub dry_run: bool,
    /// Store nothing if any row is rejected.
    pub all_or_nothing: bool,
}

/// State of an import.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ImportStage {
    /// The file is there, and was not read, or only to try.
    #[default]
    Waiting,
    /// It is being read.
    Running,
    /// It was stopped, and can be continued.
    Stopped,
    /// All of it was read.
    Done,
    /// It could not be read any further.
    Failed,
}

/// Record of an import.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct ImportRecord {
    /// Its id.
    #[schema(required)]
    pub id: String,
    /// Id of the token that sent the file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// The dataset.
    #[schema(required)]
    pub dataset: String,
    /// The file's name.
    #[schema(required)]
    pub file: String,
    /// Format.
    #[schema(required)]
    pub format: Option<Format>,
    /// Bytes of the file as sent.
    #[schema(required)]
    pub bytes: u64,
    /// Time of the upload (RFC 3339).
    #[schema(required)]
    pub uploaded: String,
    /// Start of reading.
    #[schema(required)]
    pub begun: Option<String>,
    /// When it ended.
    #[schema(required)]
    pub ended: Option<String>,
    /// State of it.
    #[schema(required)]
    pub stage: ImportStage,
    /// Options of the import.
    #[schema(required)]
    pub order: ImportOrder,
    /// Bytes read so far.
    #[schema(required)]
    pub read_bytes: u64,
    /// Finished parts.
    #[schema(required)]
    pub parts: u64,
    /// Rows, objects or records that were read.
    #[schema(required)]
    pub rows: u64,
    /// Accepted points; in a dry run, points that would be accepted.
    #[schema(required)]
    pub accepted: u64,
    /// Rejected points and rows.
    #[schema(required)]
    pub rejected: u64,
    /// Points that replaced others; none if that could not be counted everywhere.
    #[schema(required)]
    pub replaced: Option<u64>,
    /// Points replaced by a later point of the same import, with the same series and instant; counted part by part.
    #[schema(required)]
    pub duplicates: u64,
    /// Ignored points of paused metrics.
    #[schema(required)]
    pub dropped: u64,
    /// Empty cells of value columns.
    #[schema(required)]
    pub empty_cells: u64,
    /// Rejects by reason.
    #[schema(required)]
    pub causes: BTreeMap<Cause, u64>,
    /// The first 100 rejects; `rejects` returns all of them.
    #[schema(required)]
    pub rejects: Vec<Reject>,
    /// Bytes of that file.
    #[schema(required)]
    pub rejects_bytes: u64,
    /// Notes for the reader.
    #[schema(required)]
    pub notes: Vec<String>,
    /// New metrics.
    #[schema(required)]
    pub new_metrics: Vec<String>,
    /// New tags.
    #[schema(required)]
    pub new_tags: Vec<String>,
    /// New series.
    #[schema(required)]
    pub new_series: u64,
    /// The earliest instant.
    #[schema(required)]
    pub first: Option<String>,
    /// The latest instant.
    #[schema(required)]
    pub last: Option<String>,
    /// Why it failed, if it did.
    #[schema(required)]
    pub failure: Option<String>,
}

/// Options of the preview.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct LookOrder {
    /// What is known already, such as how the table is written; the rest is guessed.
    pub mapping: Option<Mapping>,
    /// Maximum number of rows (at most 200).
    pub rows: Option<usize>,
}

/// The first rows of a file, and a guessed mapping.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ImportLook {
    /// Names of its columns; none if the format describes itself.
    pub names: Vec<String>,
    /// Cells of the first rows.
    pub rows: Vec<Vec<String>>,
    /// A mapping, and why.
    pub guess: Guess,
    /// Notes on its format.
    pub notes: Vec<String>,
}

impl ImportStage {
    /// Its name in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Running => "running",
            Self::Stopped => "stopped",
            Self::Done => "done",
            Self::Failed => "failed",
        }
    }
}

impl ImportRecord {
    /// The counts as a tally, to go on counting.
    pub fn tally(&self) -> Tally {
        let mut tally = Tally::default();
        (tally.rows, tally.accepted, tally.rejected, tally.empty_cells) = (self.rows, self.accepted, self.rejected, self.empty_cells);
        (tally.causes, tally.rejects, tally.notes) = (self.causes.clone(), self.rejects.clone(), self.notes.clone());
        tally
    }

    /// Takes over the counts of a tally.
    pub fn set_tally(&mut self, tally: Tally) {
        let Tally { rows, accepted, rejected, empty_cells, causes, rejects, notes, .. } = tally;
        (self.rows, self.accepted, self.rejected, self.empty_cells) = (rows, accepted, rejected, empty_cells);
        (self.causes, self.rejects, self.notes) = (causes, rejects, notes);
    }

    /// Not read yet.
    pub fn reset(&self) -> Self {
        Self {
            id: self.id.clone(),
            by: self.by.clone(),
            dataset: self.dataset.clone(),
            file: self.file.clone(),
            format: self.format,
            bytes: self.bytes,
            uploaded: self.uploaded.clone(),
            replaced: Some(0),
            ..Self::default()
        }
    }

    /// When it was sent.
    pub fn uploaded_at(&self) -> Nanos {
        parse_rfc3339(&self.uploaded).unwrap_or(0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn resumed_counts_continue_from_the_record() {
        let mut record =
            ImportRecord { id: "a".into(), file: "x.csv".into(), accepted: 5, rejected: 1, rows: 6, parts: 2, ..ImportRecord::default() };
        let mut tally = record.tally();
        let mut later = Tally::default();
        (later.accepted, later.rows) = (10, 11);
        later.reject(7, None, "no");
        tally.absorb(later);
        record.set_tally(tally);
        assert_eq!((record.accepted, record.rejected, record.rows, record.rejects.len()), (15, 2, 17, 1));
        let fresh = record.reset();
        assert_eq!((fresh.id.as_str(), fresh.accepted, fresh.parts, fresh.replaced, fresh.stage), ("a", 0, 0, Some(0), ImportStage::Waiting));
    }

    #[test]
    fn older_import_records_are_read() {
        let record: ImportRecord = serde_json::from_str(r#"{"id": "a", "stage": "stopped"}"#).unwrap();
        assert_eq!((record.stage, record.uploaded_at()), (ImportStage::Stopped, 0));
        for stage in [ImportStage::Waiting, ImportStage::Running, ImportStage::Stopped, ImportStage::Done, ImportStage::Failed] {
            assert_eq!(serde_json::to_value(stage).unwrap(), stage.as_str());
        }
    }
}
