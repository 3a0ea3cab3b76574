//! Record of an import.

use std::collections::BTreeMap;

use fenetre_core::{
    model::Cause,
    time::{Nanos, parse_rfc3339},
};
use fenetre_formats::{Format, Reject, Tally, mapping::Mapping};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Options of an import.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Order {
    /// Name of a stored mapping.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mapping_name: Option<String>,
    /// A mapping; with a name as well, it goes on top of that one.
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
pub enum Stage {
    /// The file is there, and was not read, or only to try.
    #[default]
    Waiting,
    /// It is being read.
    Running,
    /// It was told to stop, and can go on.
    Stopped,
    /// All of it was read.
    Done,
    /// It could not be read any further.
    Failed,
}

impl Stage {
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

/// Record of an import.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct ImportRecord {
    /// Its id.
    pub id: String,
    /// The dataset.
    pub dataset: String,
    /// The file's name.
    pub file: String,
    /// Format.
    #[schema(value_type = String)]
    pub format: Option<Format>,
    /// Bytes of the file as sent.
    pub bytes: u64,
    /// Time of the upload (RFC 3339).
    pub uploaded: String,
    /// Start of reading.
    pub begun: Option<String>,
    /// When it ended.
    pub ended: Option<String>,
    /// State of it.
    pub stage: Stage,
    /// Options of the import.
    pub order: Order,
    /// Bytes read so far.
    pub read_bytes: u64,
    /// Finished parts.
    pub parts: u64,
    /// Rows, objects or records that were read.
    pub rows: u64,
    /// Accepted points; in a dry run, points that would be accepted.
    pub accepted: u64,
    /// Rejected points and rows.
    pub rejected: u64,
    /// Points that replaced others; none if that could not be counted everywhere.
    pub replaced: Option<u64>,
    /// Points replaced by a later point of the same import, with the same series and instant; counted part by part.
    pub duplicates: u64,
    /// Ignored points of paused metrics.
    pub dropped: u64,
    /// Empty cells of value columns.
    pub empty_cells: u64,
    /// Rejects by reason.
    #[schema(value_type = BTreeMap<String, u64>)]
    pub causes: BTreeMap<Cause, u64>,
    /// The first 100 rejects; `rejects` returns all of them.
    pub rejects: Vec<Reject>,
    /// Bytes of that file.
    pub rejects_bytes: u64,
    /// Notes for the reader.
    pub notes: Vec<String>,
    /// New metrics.
    pub new_metrics: Vec<String>,
    /// New tags.
    pub new_tags: Vec<String>,
    /// New series.
    pub new_series: u64,
    /// The earliest instant.
    pub first: Option<String>,
    /// The latest instant.
    pub last: Option<String>,
    /// Why it failed, if it did.
    pub failure: Option<String>,
    /// It was told to stop because the service ends.
    #[serde(skip)]
    pub ends_with_service: bool,
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

    /// As it was before it was read.
    pub fn reset(&self) -> Self {
        Self {
            id: self.id.clone(),
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
    fn counts_go_on_where_the_record_has_them() {
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
        assert_eq!((fresh.id.as_str(), fresh.accepted, fresh.parts, fresh.replaced, fresh.stage), ("a", 0, 0, Some(0), Stage::Waiting));
    }

    #[test]
    fn a_record_of_before_reads_with_what_it_has() {
        let record: ImportRecord = serde_json::from_str(r#"{"id": "a", "stage": "stopped"}"#).unwrap();
        assert_eq!((record.stage, record.uploaded_at()), (Stage::Stopped, 0));
        for stage in [Stage::Waiting, Stage::Running, Stage::Stopped, Stage::Done, Stage::Failed] {
            assert_eq!(serde_json::to_value(stage).unwrap(), stage.as_str());
        }
    }
}
