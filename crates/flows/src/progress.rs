//! How far a source has read. It is kept in the store, after the points that it is about.

use std::collections::BTreeMap;

use fenetre_core::time::Nanos;
use fenetre_store::{Document, DocumentKind, Store, StoreError};
use serde::{Deserialize, Serialize};

/// Size and time of a file, by which a changed one is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Stamp {
    /// Size in bytes.
    pub bytes: u64,
    /// When it was changed, in nanoseconds since 1970; 0 if that is unknown.
    pub changed: Nanos,
}

/// How far a source has read.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Progress {
    /// What was read. If the source reads something else now, the progress does not count.
    pub subject: String,
    /// Time of the latest row.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watermark: Option<Nanos>,
    /// Files that were read and stay where they are.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub files: BTreeMap<String, Stamp>,
}

impl Document for Progress {
    const KIND: DocumentKind = DocumentKind::SourceProgress;
}

impl Progress {
    /// That of a source, if there is one.
    ///
    /// # Errors
    /// If it cannot be read.
    pub fn load(store: &Store, source: &str) -> Result<Option<Self>, StoreError> {
        Ok(store.documents().get::<Self>(source)?.map(|kept| kept.body))
    }

    /// Keeps it.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn save(&self, store: &Store, source: &str, now: Nanos) -> Result<(), StoreError> {
        store.documents().put(source, self, now)
    }
}
