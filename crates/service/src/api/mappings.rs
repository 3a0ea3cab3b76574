//! Stored mappings.

use actix_web::{delete, get, put, web};
use fenetre_formats::mapping::Mapping;
use fenetre_store::Document;
use fenetre_wire::{datasets::Defined, mappings::MappingInfo};

use crate::{
    clock::now,
    http::access::{Access, DefineGrant, ReadGrant},
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, State, blocking},
    views::mappings::{StoredMapping, all, find},
};

use super::Body;

/// Lists the stored mappings.
#[utoipa::path(tag = "mappings", responses((status = 200, body = [MappingInfo]), (status = 403, body = Problem)))]
#[get("/api/v1/mappings")]
pub(crate) async fn list(_: Access<ReadGrant>, state: AppState) -> Result<web::Json<Vec<MappingInfo>>, ApiError> {
    blocking(&state, all).await.map(web::Json)
}

/// Returns a stored mapping.
#[utoipa::path(tag = "mappings", params(("name" = String, Path)), responses((status = 200, body = Mapping), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/mappings/{name}")]
pub(crate) async fn show(_: Access<ReadGrant>, state: AppState, name: web::Path<String>) -> Result<web::Json<Mapping>, ApiError> {
    blocking(&state, move |state| find(state, &name)).await.map(web::Json)
}

/// Stores a mapping under a name, as JSON or TOML.
#[utoipa::path(tag = "mappings", params(("name" = String, Path)), request_body(content((Mapping = "application/json"), (String = "application/toml"))),
    responses((status = 200, body = Defined), (status = 400, body = Problem), (status = 403, body = Problem)))]
#[put("/api/v1/mappings/{name}")]
pub(crate) async fn put(_: Access<DefineGrant>, state: AppState, name: web::Path<String>, body: Body) -> Result<web::Json<Defined>, ApiError> {
    let fault = |text: String| ApiError::new(ProblemKind::Request, text);
    fenetre_core::model::check_dataset_name(&name)
        .map_err(|_| fault(format!("invalid mapping name `{name}`: use a to z, 0-9, `-` and `_`, starting with a letter or digit")))?;
    let text = std::str::from_utf8(&body).map_err(|_| fault("the mapping is not UTF-8".to_owned()))?;
    let mapping = Mapping::parse(text).map_err(|error| fault(format!("the mapping cannot be read: {error}")))?;
    let work = move |state: &State| {
        let created = !state.store.documents().names(StoredMapping::KIND)?.contains(&name);
        state.store.documents().put(&name, &StoredMapping(mapping), now())?;
        Ok(created)
    };
    blocking(&state, work).await.map(|created| web::Json(Defined { created }))
}

/// Deletes a stored mapping.
#[utoipa::path(tag = "mappings", params(("name" = String, Path)), responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[delete("/api/v1/mappings/{name}")]
pub(crate) async fn remove(_: Access<DefineGrant>, state: AppState, name: web::Path<String>) -> Result<actix_web::HttpResponse, ApiError> {
    let work = move |state: &State| {
        if !state.store.documents().remove::<StoredMapping>(&name)? {
            find(state, &name)?;
        }
        Ok(())
    };
    blocking(&state, work).await.map(|()| actix_web::HttpResponse::NoContent().finish())
}
