//! Mappings that are stored under a name.

use fenetre_core::{
    suggest::{closest, listing},
    time::format_utc,
};
use fenetre_formats::mapping::Mapping;
use fenetre_store::Document;
use fenetre_wire::mappings::MappingInfo;

use crate::{
    problem::{ApiError, ProblemKind},
    state::State,
};

/// The sort of the documents.
pub const SORT: &str = "mapping";

/// Every mapping, by name.
pub fn all(state: &State) -> Result<Vec<MappingInfo>, ApiError> {
    state
        .store
        .documents(SORT)?
        .iter()
        .map(|document| Ok(MappingInfo { name: document.name.clone(), changed: format_utc(document.changed), mapping: read(document)? }))
        .collect()
}

/// The mapping of a record.
fn read(document: &Document) -> Result<Mapping, ApiError> {
    serde_json::from_str(&document.body).map_err(|error| {
        let name = &document.name;
        ApiError::internal(&format!("the mapping `{name}` cannot be read ({error}): a later version wrote it, or it is damaged. Store it again, or remove it with `fenetre mapping remove {name}`"))
    })
}

/// The mapping of that name.
pub fn find(state: &State, name: &str) -> Result<Mapping, ApiError> {
    let all = state.store.documents(SORT)?;
    if let Some(found) = all.iter().find(|known| known.name == name) {
        return read(found);
    }
    let names = || all.iter().map(|known| known.name.as_str());
    let hint = match closest(name, names()) {
        Some(known) => format!("did you mean `{known}`?"),
        None if all.is_empty() => "none is kept yet: make one with `fenetre mapping guess FILE`".to_owned(),
        None => format!("there are {}", listing(names(), 10)),
    };
    Err(ApiError::new(ProblemKind::NotFound, format!("there is no mapping `{name}`: {hint}")))
}
