//! Secrets of the store. They are set, listed by name and removed; no call returns a value.

use actix_web::{HttpResponse, delete, get, put, web};
use fenetre_access::change::{Act, Subject};
use fenetre_core::time::{Nanos, format_utc};
use fenetre_flows::secret::checked_secret;
use fenetre_wire::{datasets::Defined, secrets::SecretInfo};

use crate::{
    api::Body,
    changes::Recorded,
    clock::now,
    permission::{Access, AdminGrant},
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, State, blocking},
};

/// Lists the secrets of the store by name.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sources", responses((status = 200, body = [SecretInfo]), (status = 403, body = Problem)))]
#[get("/api/v1/secrets")]
pub(crate) async fn list(_: Access<AdminGrant>, state: AppState) -> Result<web::Json<Vec<SecretInfo>>, ApiError> {
    let work = |state: &State| {
        let info = |(name, set_at): (String, Nanos)| SecretInfo { used_by: users(state, &name), name, set_at: format_utc(set_at) };
        Ok(state.store.secrets().names()?.into_iter().map(info).collect())
    };
    blocking(&state, work).await.map(web::Json)
}

/// Sets a secret to the text of the body.
///
/// A source refers to it as `{ kept = "NAME" }`, and reads it in each round or at each connection. No call returns the value.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sources", params(("secret" = String, Path)), request_body(content = String, content_type = "text/plain"),
    responses((status = 200, body = Defined), (status = 400, body = Problem), (status = 403, body = Problem)))]
#[put("/api/v1/secrets/{secret}")]
pub(crate) async fn put(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>, body: Body) -> Result<web::Json<Defined>, ApiError> {
    let text = std::str::from_utf8(&body).map_err(|_| ApiError::new(ProblemKind::Request, "the secret is not UTF-8"))?;
    let value = checked_secret(text)?.to_owned();
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let secrets = state.store.secrets();
        let created = secrets.get(&name)?.is_none();
        secrets.set(&name, &value, now())?;
        Recorded::new(&caller, Subject::Secret, Act::Set, &*name).write(state, None, None)?;
        Ok(created)
    };
    blocking(&state, work).await.map(|created| web::Json(Defined { created }))
}

/// Removes a secret that no source or sink refers to.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sources", params(("secret" = String, Path)),
    responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem, description = "a source or a sink refers to it")))]
#[delete("/api/v1/secrets/{secret}")]
pub(crate) async fn remove(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<HttpResponse, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let users = users(state, &name);
        if !users.is_empty() {
            let text = format!("sources or sinks use the secret `{name}`: {}. Change or remove them first", users.join(", "));
            return Err(ApiError::new(ProblemKind::Definition, text));
        }
        if !state.store.secrets().remove(&name)? {
            return Err(ApiError::new(ProblemKind::NotFound, format!("there is no secret `{name}`: `fenetre secret list` shows them")));
        }
        Recorded::new(&caller, Subject::Secret, Act::Removed, &*name).write(state, None, None)
    };
    blocking(&state, work).await.map(|()| HttpResponse::NoContent().finish())
}

/// The sources and sinks that refer to a secret.
fn users(state: &State, secret: &str) -> Vec<String> {
    let refers = |source: &fenetre_flows::supervisor::SourceStatus| source.definition.kept_secrets().contains(secret);
    let sources = state.sources.all().into_iter().filter(refers).map(|source| source.name);
    let sinks = state.sinks.kept_secrets().into_iter().filter(|(_, secrets)| secrets.contains(secret)).map(|(name, _)| name);
    sources.chain(sinks).collect()
}
