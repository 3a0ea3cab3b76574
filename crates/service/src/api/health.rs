//! Liveness and readiness.

use actix_web::{get, web};
use fenetre_wire::health::Health;

use crate::{
    permission::{Access, AnyGrant},
    problem::{ApiError, Problem},
    state::AppState,
};

/// Reports that the process is running.
#[utoipa::path(security(("token" = [])), tag = "health", responses((status = 200, body = Health), (status = 403, body = Problem)))]
#[get("/health/live")]
pub(crate) async fn live(_: Access<AnyGrant>) -> web::Json<Health> {
    web::Json(Health { status: "live".to_owned() })
}

/// Reports whether the store is open and accepts points.
///
/// The call waits for no other calls.
#[utoipa::path(security(("token" = [])), tag = "health", responses((status = 200, body = Health), (status = 403, body = Problem), (status = 503, body = Problem)))]
#[get("/health/ready")]
pub(crate) async fn ready(_: Access<AnyGrant>, state: AppState) -> Result<web::Json<Health>, ApiError> {
    state.store.check_ready()?;
    Ok(web::Json(Health { status: "ready".to_owned() }))
}
