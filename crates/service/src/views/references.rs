//! What refers to a dataset, a metric or a tag by its name.

use fenetre_wire::{datasets::Reference, imports::ImportStage};

use super::mappings;
use crate::{problem::ApiError, state::State};

/// Something that may be referred to.
pub enum ReferenceTarget<'n> {
    /// A dataset, by name.
    Dataset(&'n str),
    /// A metric, by name.
    Metric(&'n str),
    /// A tag, by key.
    Tag(&'n str),
}

/// Everything that refers to it.
pub fn of(state: &State, target: &ReferenceTarget<'_>) -> Result<Vec<Reference>, ApiError> {
    let mut found = Vec::new();
    let mut add = |kind: &str, name: &str, how: String| found.push(Reference { kind: kind.to_owned(), name: name.to_owned(), how });
    for kept in mappings::all(state)? {
        let (metrics, tags) = kept.mapping.targets();
        match target {
            ReferenceTarget::Metric(metric) if metrics.contains(metric) => add("mapping", &kept.name, "brings values for it".to_owned()),
            ReferenceTarget::Tag(key) if tags.contains(key) => add("mapping", &kept.name, "gives it to series".to_owned()),
            _ => {}
        }
    }
    if let ReferenceTarget::Dataset(name) = target {
        let open = state.imports.all(&state.store)?.into_iter().filter(|import| import.dataset == **name && import.stage != ImportStage::Done);
        open.for_each(|import| add("import", &import.id, format!("reads {} into it, and is {}", import.file, import.stage.as_str())));
    }
    Ok(found)
}
