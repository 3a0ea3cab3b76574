//! Records of dropped partitions. A partition with a record is in the bin, or about to be moved there.

use std::path::{Path, PathBuf};

use fenetre_core::{model::DatasetId, time::Nanos};
use serde::{Deserialize, Serialize};

use crate::{
    catalogue::{
        definitions::Definitions,
        documents::{Document, DocumentKind, Kept},
    },
    disk::files::Files,
    error::StoreError,
    missing::floors::Dropped,
    span::Span,
};

/// The record of a partition that was dropped.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct DroppedPartition {
    pub dataset: u32,
    /// Its file, below the store's directory.
    pub file: String,
    pub why: String,
    pub points: u64,
    pub bytes: u64,
    pub span: Option<(Nanos, Nanos)>,
    /// Whether it is erased without staying in the bin.
    pub for_good: bool,
}

impl Document for DroppedPartition {
    const KIND: DocumentKind = DocumentKind::DroppedPartition;
}

impl DroppedPartition {
    /// Path of its file in the bin.
    pub fn place_in_bin(&self, files: &Files, id: &str) -> PathBuf {
        files.bin(id).join(Path::new(&self.file).file_name().unwrap_or_default())
    }

    /// The time range that lacks points without it; none if it had no points.
    pub fn dropped(&self) -> Option<Dropped> {
        let span = self.file.rsplit('/').next().and_then(Span::of_file_name)?;
        let (first, last) = self.span?;
        Some(Dropped { span: (span.start, span.range().end), points: (first, last.saturating_add(1)) })
    }

    /// Whether its file is in the bin. The database is moved last, so its companions are there too.
    pub fn is_moved(&self, files: &Files, id: &str) -> bool {
        self.place_in_bin(files, id).exists()
    }
}

/// All records, by their ids in the bin.
pub fn records(definitions: &Definitions) -> Result<Vec<Kept<DroppedPartition>>, StoreError> {
    definitions.documents()
}

/// Dropped files, by their names below the store's directory.
pub fn files_on_their_way(definitions: &Definitions) -> Result<Vec<String>, StoreError> {
    Ok(records(definitions)?.into_iter().map(|kept| kept.body.file).collect())
}

/// Time ranges of each dataset that lack points because of dropped partitions.
pub fn missing(definitions: &Definitions) -> Result<Vec<(DatasetId, Dropped)>, StoreError> {
    let of = |kept: Kept<DroppedPartition>| Some((DatasetId(kept.body.dataset), kept.body.dropped()?));
    Ok(records(definitions)?.into_iter().filter_map(of).collect())
}
