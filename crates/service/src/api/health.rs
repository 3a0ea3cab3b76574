//! Is it there, and does it answer.

use actix_web::{get, web};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{
    access::{Access, Read},
    problem::Problem,
    state::{Shared, blocking, now},
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
pub(crate) async fn live(_: Access<Read>) -> web::Json<Health> {
    web::Json(Health { status: "live".to_owned() })
}

/// The store is open and can be read.
#[utoipa::path(tag = "health", responses((status = 200, body = Health), (status = 403, body = Problem), (status = 500, body = Problem)))]
#[get("/health/ready")]
pub(crate) async fn ready(_: Access<Read>, state: Shared) -> Result<web::Json<Health>, Problem> {
    blocking(&state, |state| Ok(state.store.storage(now()).map(|_| ())?)).await?;
    Ok(web::Json(Health { status: "ready".to_owned() }))
}
