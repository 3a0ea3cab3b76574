//! What a new definition of a metric means for the points that it has.

use fenetre_core::model::{Kind, MetricDefinition};

/// What a metric's change means for its points.
#[derive(Clone, Debug, PartialEq)]
pub enum Change {
    /// They stay as they are.
    Nothing,
    /// They are in another unit.
    Unit {
        /// Their unit.
        from: String,
        /// That which they are to get, if any.
        to: Option<String>,
    },
    /// They are of another kind.
    Kind {
        /// Their kind.
        from: Kind,
        /// That which they are to get.
        to: Kind,
    },
}

impl Change {
    /// Between two definitions.
    pub fn between(known: &MetricDefinition, wanted: &MetricDefinition) -> Self {
        match &known.unit {
            _ if !known.kind.is_like(wanted.kind) => Self::Kind { from: known.kind, to: wanted.kind },
            Some(from) if known.unit != wanted.unit => Self::Unit { from: from.clone(), to: wanted.unit.clone() },
            _ => Self::Nothing,
        }
    }
}
