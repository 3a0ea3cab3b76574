//! Mappings that are kept under a name.

use actix_web::{delete, get, put, web};
use fenetre_core::{
    suggest::{closest, listing},
    time::format_utc,
};
use fenetre_formats::mapping::Mapping;
use fenetre_store::Document;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::Body;
use crate::{
    access::{Access, Define, Read},
    api::datasets::Defined,
    problem::{Problem, Sort},
    state::{Shared, State, blocking, now},
};

/// The sort of the documents.
const SORT: &str = "mapping";

/// A mapping and its name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MappingInfo {
    /// Its name.
    pub name: String,
    /// When it was kept.
    pub changed: String,
    /// What it says.
    pub mapping: Mapping,
}

/// Every mapping, by name.
pub(crate) fn all(state: &State) -> Result<Vec<MappingInfo>, Problem> {
    state
        .store
        .documents(SORT)?
        .iter()
        .map(|document| Ok(MappingInfo { name: document.name.clone(), changed: format_utc(document.changed), mapping: read(document)? }))
        .collect()
}

/// The mapping of a record.
fn read(document: &Document) -> Result<Mapping, Problem> {
    serde_json::from_str(&document.body).map_err(|error| {
        let name = &document.name;
        Problem::internal(&format!("the mapping `{name}` cannot be read ({error}): a later version wrote it, or it is damaged. Store it again, or remove it with `fenetre mapping remove {name}`"))
    })
}

/// The mapping of that name.
pub(crate) fn find(state: &State, name: &str) -> Result<Mapping, Problem> {
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
    Err(Problem::new(Sort::NotFound, format!("there is no mapping `{name}`: {hint}")))
}

/// Every mapping that is kept.
#[utoipa::path(tag = "mappings", responses((status = 200, body = [MappingInfo]), (status = 403, body = Problem)))]
#[get("/api/v1/mappings")]
pub(crate) async fn list(_: Access<Read>, state: Shared) -> Result<web::Json<Vec<MappingInfo>>, Problem> {
    blocking(&state, all).await.map(web::Json)
}

/// One mapping.
#[utoipa::path(tag = "mappings", params(("name" = String, Path)), responses((status = 200, body = Mapping), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/mappings/{name}")]
pub(crate) async fn show(_: Access<Read>, state: Shared, name: web::Path<String>) -> Result<web::Json<Mapping>, Problem> {
    blocking(&state, move |state| find(state, &name)).await.map(web::Json)
}

/// Keeps a mapping under a name: JSON, or TOML.
#[utoipa::path(tag = "mappings", params(("name" = String, Path)), request_body(content((Mapping = "application/json"), (String = "application/toml"))),
    responses((status = 200, body = Defined), (status = 400, body = Problem), (status = 403, body = Problem)))]
#[put("/api/v1/mappings/{name}")]
pub(crate) async fn put(_: Access<Define>, state: Shared, name: web::Path<String>, body: Body) -> Result<web::Json<Defined>, Problem> {
    let fault = |text: String| Problem::new(Sort::Request, text);
    fenetre_core::model::check_dataset_name(&name).map_err(|_| {
        fault(format!("`{name}` is no name of a mapping: it has letters a to z, digits, `-` and `_`, and begins with a letter or digit"))
    })?;
    let text = std::str::from_utf8(&body).map_err(|_| fault("the mapping is not UTF-8".to_owned()))?;
    let mapping = Mapping::parse(text).map_err(|error| fault(format!("the mapping cannot be read: {error}")))?;
    let work = move |state: &State| {
        let created = !state.store.documents(SORT)?.iter().any(|known| known.name == *name);
        let body = serde_json::to_string(&mapping).map_err(|error| Problem::internal(&error))?;
        state.store.put_document(SORT, &Document { name: name.into_inner(), body, changed: now() })?;
        Ok(created)
    };
    blocking(&state, work).await.map(|created| web::Json(Defined { created }))
}

/// Forgets a mapping.
#[utoipa::path(tag = "mappings", params(("name" = String, Path)), responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[delete("/api/v1/mappings/{name}")]
pub(crate) async fn remove(_: Access<Define>, state: Shared, name: web::Path<String>) -> Result<actix_web::HttpResponse, Problem> {
    let work = move |state: &State| {
        if !state.store.remove_document(SORT, &name)? {
            find(state, &name)?;
        }
        Ok(())
    };
    blocking(&state, work).await.map(|()| actix_web::HttpResponse::NoContent().finish())
}
