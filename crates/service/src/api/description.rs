//! The description of the API.

use actix_web::{HttpResponse, web};

use crate::{
    http::openapi::Calls,
    permission::{Access, AnyGrant},
};

/// Returns the description of the API (OpenAPI 3.1).
pub async fn show(_: Access<AnyGrant>, calls: web::Data<Calls>) -> HttpResponse {
    HttpResponse::Ok().json(calls.document())
}
