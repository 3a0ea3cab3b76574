//! The service's own metrics as OpenMetrics text.

use actix_web::{HttpResponse, get};

use crate::{
    permission::{Access, ReadStoreGrant},
    problem::{ApiError, Problem},
    state::{AppState, blocking_long},
    views::figures::exposition,
};

const CONTENT_TYPE: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";
/// Prefix of the names, which separates them from the metrics of other services.
const PREFIX: &str = "fenetre_";

/// Returns the figures of the service as OpenMetrics text.
#[utoipa::path(security(("token" = ["read, all datasets"])), tag = "store",
    responses((status = 200, body = String, content_type = "application/openmetrics-text"), (status = 403, body = Problem)))]
#[get("/metrics")]
pub(crate) async fn metrics(_: Access<ReadStoreGrant>, state: AppState) -> Result<HttpResponse, ApiError> {
    blocking_long(&state, |state| exposition(state, PREFIX)).await.map(|text| HttpResponse::Ok().content_type(CONTENT_TYPE).body(text))
}
