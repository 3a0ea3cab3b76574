//! Stored mappings.

use fenetre_access::grant::Action;
use fenetre_core::{suggest::hint, time::format_utc};
use fenetre_formats::mapping::Mapping;
use fenetre_store::{Document, DocumentKind, Kept, StoreError};
use fenetre_wire::mappings::MappingInfo;
use serde::{Deserialize, Serialize};

use crate::{
    access::caller::Caller,
    problem::{ApiError, ProblemKind},
    state::State,
};

/// A mapping as a document of the catalogue.
#[derive(Serialize, Deserialize)]
#[serde(transparent)]
pub struct StoredMapping(pub Mapping);

impl Document for StoredMapping {
    const KIND: DocumentKind = DocumentKind::Mapping;
}

/// Every mapping, by name.
pub fn all(state: &State) -> Result<Vec<MappingInfo>, ApiError> {
    let names = state.store.documents().names(StoredMapping::KIND)?;
    let info = |kept: Kept<StoredMapping>| MappingInfo { name: kept.name, changed: format_utc(kept.changed), mapping: kept.body.0 };
    names.iter().filter_map(|name| read(state, name).transpose()).map(|kept| kept.map(info)).collect()
}

/// The mappings that a caller may see: all of them, or none, since they belong to no dataset.
pub fn visible(state: &State, caller: &Caller) -> Result<Vec<MappingInfo>, ApiError> {
    if caller.may_everywhere(Action::Read) { all(state) } else { Ok(Vec::new()) }
}

/// The document of a mapping, if there is one.
fn read(state: &State, name: &str) -> Result<Option<Kept<StoredMapping>>, ApiError> {
    state.store.documents().get(name).map_err(|error| match error {
        StoreError::Record { reason, .. } => ApiError::internal(&format!(
            "the mapping `{name}` cannot be read ({reason}): a later version wrote it, or it is damaged. Store it again, or remove it with `fenetre mapping remove {name}`"
        )),
        error => error.into(),
    })
}

/// The mapping of that name. A hint names others where the caller may list them.
pub fn find(state: &State, may_list: bool, name: &str) -> Result<Mapping, ApiError> {
    if let Some(found) = read(state, name)? {
        return Ok(found.body.0);
    }
    if !may_list {
        return Err(ApiError::new(ProblemKind::NotFound, format!("there is no mapping `{name}`")));
    }
    let all = state.store.documents().names(StoredMapping::KIND)?;
    let names = || all.iter().map(String::as_str);
    let hint = if all.is_empty() { "make one with `fenetre mapping guess FILE`".to_owned() } else { hint(name, names(), 10) };
    Err(ApiError::new(ProblemKind::NotFound, format!("there is no mapping `{name}`: {hint}")))
}
