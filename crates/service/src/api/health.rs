//! Is it there, and does it answer.

use actix_web::{get, web};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{
    http::access::{Access, ReadGrant},
    problem::Problem,
    state::AppState,
};

/// How the service is.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Health {
    /// `live` or `ready`.
    pub status: String,
}

/// The process answers.
#[utoipa::path(tag = "health", responses((status = 200, body = Health), (status = 403, body = Problem)))]
#[get("/health/live")]
pub(crate) async fn live(_: Access<ReadGrant>) -> web::Json<Health> {
    web::Json(Health { status: "live".to_owned() })
}

/// The store is open, and takes points. Asked in no lane: it answers however much there is to do.
#[utoipa::path(tag = "health", responses((status = 200, body = Health), (status = 403, body = Problem), (status = 503, body = Problem)))]
#[get("/health/ready")]
pub(crate) async fn ready(_: Access<ReadGrant>, state: AppState) -> Result<web::Json<Health>, Problem> {
    state.store.check_ready()?;
    Ok(web::Json(Health { status: "ready".to_owned() }))
}
