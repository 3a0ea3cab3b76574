//! References to a dataset, a metric or a tag by its name.

use fenetre_wire::{datasets::Reference, imports::ImportStage};

use super::mappings;
use crate::{access::caller::Caller, problem::ApiError, state::State};

/// Kind of what is referred to.
#[derive(Clone, Copy)]
pub enum ReferenceTarget {
    /// A dataset.
    Dataset,
    /// A metric.
    Metric,
    /// A tag, by its key.
    Tag,
}

/// What refers to a name, of what the caller may see. Mappings belong to no dataset, so only who may see all of them sees these.
pub fn of(state: &State, caller: &Caller, target: ReferenceTarget, name: &str) -> Result<Vec<Reference>, ApiError> {
    let mut found = Vec::new();
    let mut add = |kind: &str, by: &str, how: String| found.push(Reference { kind: kind.to_owned(), name: by.to_owned(), how });
    for kept in mappings::visible(state, caller)? {
        let (metrics, tags) = kept.mapping.targets();
        match target {
            ReferenceTarget::Metric if metrics.contains(&name) => add("mapping", &kept.name, "brings values for it".to_owned()),
            ReferenceTarget::Tag if tags.contains(&name) => add("mapping", &kept.name, "gives it to series".to_owned()),
            _ => {}
        }
    }
    if let ReferenceTarget::Dataset = target {
        let open = state.imports.all(&state.store)?.into_iter().filter(|import| import.dataset == name && import.stage != ImportStage::Done);
        open.for_each(|import| add("import", &import.id, format!("reads {} into it, and is {}", import.file, import.stage.as_str())));
    }
    Ok(found)
}
