//! Documents: small records that are kept in the catalogue as JSON, each of a kind and under a name.
//!
//! The kinds are a closed list, and each has a version. A document of an unknown kind, of a later version, or with a body that does not
//! fit its type is an error that names it: with a default in its place, a decision would be lost.

use fenetre_core::{keeping::LimitSettings, model::RollupPolicy, time::Nanos};
use serde::{Serialize, de::DeserializeOwned};

/// Declares the kinds: variant, name in the catalogue, version of the body.
macro_rules! kinds {
    ($($(#[$doc:meta])* $kind:ident = $name:literal, $version:literal;)*) => {
        /// What a document records.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
        pub enum DocumentKind {
            $($(#[$doc])* $kind,)*
        }

        impl DocumentKind {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$kind,)*];

            /// Its name in the catalogue.
            pub fn as_str(self) -> &'static str {
                match self {
                    $(Self::$kind => $name,)*
                }
            }

            /// The version of the bodies that are written now, and the highest that can be read.
            pub fn version(self) -> u32 {
                match self {
                    $(Self::$kind => $version,)*
                }
            }
        }
    };
}

kinds! {
    /// Runtime limits of a scope.
    Retention = "retention", 1;
    /// A rollup policy, by its dataset's id and its name.
    RollupPolicy = "rollup", 1;
    /// What thinning left out of a metric.
    ThinningCount = "thinning", 1;
    /// What was packed into a dataset on one day.
    PackedVolume = "written", 1;
    /// How often a partition was edited, by its file.
    PartitionEdits = "edited-partition", 1;
    /// A partition that must exist, by its file.
    ExistingPartition = "partition", 1;
    /// A partition that was lost, by its file.
    LostPartition = "lost-partition", 1;
    /// A journal file that must exist, by its number.
    JournalFile = "journal", 1;
    /// Batches that were lost, by journal file.
    LostBatches = "lost-batches", 1;
    /// Partitions whose points are in others, while files are exchanged.
    ReplacedPartitions = "replaced-partitions", 1;
    /// A partition that expired, by its id in the bin.
    DroppedPartition = "dropped-partition", 1;
    /// Points that were deleted, by their id in the bin.
    DeletedPoints = "deleted-points", 1;
    /// A metric whose old points went before their partition, by its id in the bin.
    Trim = "trimmed-points", 1;
    /// Time ranges of a dataset whose points were erased.
    ErasedRanges = "erased-until", 1;
    /// A mapping, by its name.
    Mapping = "mapping", 1;
    /// The record of an import, by its id.
    Import = "import", 1;
    /// The definition of a source, by its name.
    Source = "source", 1;
    /// The definition of a sink, by its name.
    Sink = "sink", 1;
    /// How far a source has read, by its name.
    SourceProgress = "source-progress", 1;
    /// The series that a source has brought, by its name.
    SourceSeries = "source-series", 1;
    /// Where a reader of arriving batches is, by its name.
    FeedCursor = "feed-cursor", 1;
    /// The last plausible wall time.
    Clock = "clock", 1;
}

impl DocumentKind {
    /// The kind of a name in the catalogue.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|kind| kind.as_str() == name)
    }
}

/// A type whose values are kept as documents of one kind.
pub trait Document: Serialize + DeserializeOwned {
    /// The kind.
    const KIND: DocumentKind;
}

impl Document for LimitSettings {
    const KIND: DocumentKind = DocumentKind::Retention;
}

impl Document for RollupPolicy {
    const KIND: DocumentKind = DocumentKind::RollupPolicy;
}

/// A document as it is kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Kept<D> {
    /// Its name, unique among those of its kind.
    pub name: String,
    /// What it records.
    pub body: D,
    /// When it was put there.
    pub changed: Nanos,
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn document_kinds_have_unique_names() {
        let names: BTreeSet<&str> = DocumentKind::ALL.iter().map(|kind| kind.as_str()).collect();
        assert_eq!(names.len(), DocumentKind::ALL.len());
        assert!(DocumentKind::ALL.iter().all(|kind| DocumentKind::from_name(kind.as_str()) == Some(*kind) && kind.version() > 0));
        assert_eq!(DocumentKind::from_name("elsewhere"), None);
    }
}
