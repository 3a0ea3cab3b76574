//! Stored mappings.

use actix_web::{delete, get, put, web};
use fenetre_access::change::{Act, Subject};
use fenetre_formats::mapping::Mapping;
use fenetre_store::Document;
use fenetre_wire::{datasets::Defined, mappings::MappingInfo};
use serde_json::Value;

use crate::{
    changes::Recorded,
    clock::now,
    permission::{Access, AnyGrant, DefineStoreGrant, ReadStoreGrant},
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, State, blocking},
    views::mappings::{StoredMapping, find, visible},
};

use super::Body;

/// Lists the stored mappings.
#[utoipa::path(security(("token" = [])), tag = "mappings", responses((status = 200, body = [MappingInfo]), (status = 403, body = Problem)))]
#[get("/api/v1/mappings")]
pub(crate) async fn list(caller: Access<AnyGrant>, state: AppState) -> Result<web::Json<Vec<MappingInfo>>, ApiError> {
    let caller = caller.into_caller();
    blocking(&state, move |state| visible(state, &caller)).await.map(web::Json)
}

/// Returns a stored mapping.
#[utoipa::path(security(("token" = ["read, all datasets"])), tag = "mappings", params(("name" = String, Path)), responses((status = 200, body = Mapping), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/mappings/{name}")]
pub(crate) async fn show(_: Access<ReadStoreGrant>, state: AppState, name: web::Path<String>) -> Result<web::Json<Mapping>, ApiError> {
    blocking(&state, move |state| find(state, true, &name)).await.map(web::Json)
}

/// Stores a mapping under a name, as JSON or TOML.
#[utoipa::path(security(("token" = ["define, all datasets"])), tag = "mappings", params(("name" = String, Path)), request_body(content((Mapping = "application/json"), (String = "application/toml"))),
    responses((status = 200, body = Defined), (status = 400, body = Problem), (status = 403, body = Problem)))]
#[put("/api/v1/mappings/{name}")]
pub(crate) async fn put(
    caller: Access<DefineStoreGrant>,
    state: AppState,
    name: web::Path<String>,
    body: Body,
) -> Result<web::Json<Defined>, ApiError> {
    let fault = |text: String| ApiError::new(ProblemKind::Request, text);
    fenetre_core::model::check_dataset_name(&name)
        .map_err(|_| fault(format!("invalid mapping name `{name}`: use a to z, 0-9, `-` and `_`, starting with a letter or digit")))?;
    let text = std::str::from_utf8(&body).map_err(|_| fault("the mapping is not UTF-8".to_owned()))?;
    let mapping = Mapping::parse(text).map_err(|error| fault(format!("the mapping cannot be read: {error}")))?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let created = !state.store.documents().names(StoredMapping::KIND)?.contains(&name);
        let store = |state: &State| Ok(state.store.documents().put(&name, &StoredMapping(mapping), now())?);
        Recorded::new(&caller, Subject::Mapping, Act::Defined, &*name).around(state, |state| json_of(state, &name), store)?;
        Ok(created)
    };
    blocking(&state, work).await.map(|created| web::Json(Defined { created }))
}

/// A mapping as JSON, for the record of changes. One that cannot be read is no reason not to replace it.
fn json_of(state: &State, name: &str) -> Result<Option<Value>, ApiError> {
    let kept = state.store.documents().get::<StoredMapping>(name).unwrap_or_default();
    kept.map(|kept| serde_json::to_value(kept.body.0)).transpose().map_err(|error| ApiError::internal(&error))
}

/// Deletes a stored mapping.
#[utoipa::path(security(("token" = ["define, all datasets"])), tag = "mappings", params(("name" = String, Path)), responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[delete("/api/v1/mappings/{name}")]
pub(crate) async fn remove(caller: Access<DefineStoreGrant>, state: AppState, name: web::Path<String>) -> Result<actix_web::HttpResponse, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let before = json_of(state, &name)?;
        if !state.store.documents().remove::<StoredMapping>(&name)? {
            find(state, true, &name)?;
        }
        Recorded::new(&caller, Subject::Mapping, Act::Removed, &*name).write(state, before, None)
    };
    blocking(&state, work).await.map(|()| actix_web::HttpResponse::NoContent().finish())
}
