//! Every call, one file a resource, with the types that travel. The command line uses the same types.

pub mod ask;
pub mod backup;
pub mod datasets;
pub mod health;
pub mod overview;
pub mod points;
pub mod series;
pub mod storage;

use actix_web::{HttpResponse, web};
use utoipa::openapi::{InfoBuilder, LicenseBuilder, OpenApi, OpenApiBuilder};
use utoipa_actix_web::service_config::ServiceConfig;

use crate::{
    access::{Access, Read},
    problem::{Problem, Sort},
};

/// What the OpenAPI document says of itself.
pub(crate) fn description() -> OpenApi {
    let info = InfoBuilder::new()
        .title("Fenetre")
        .version(env!("CARGO_PKG_VERSION"))
        .description(Some("Timestamped points in, aggregates over windows of time out. Every failure is problem details (RFC 9457)."))
        .license(Some(LicenseBuilder::new().name("MIT").identifier(Some("MIT")).build()))
        .build();
    OpenApiBuilder::new().info(info).build()
}

/// Adds every call.
pub(crate) fn mount(config: &mut ServiceConfig<'_>) {
    config
        .service(health::live)
        .service(health::ready)
        .service(overview::overview)
        .service(storage::storage)
        .service(backup::begin)
        .service(backup::look)
        .service(backup::stop)
        .service(datasets::list)
        .service(datasets::put)
        .service(datasets::list_metrics)
        .service(datasets::put_metric)
        .service(datasets::list_tags)
        .service(series::list)
        .service(series::latest)
        .service(points::push)
        .service(ask::get)
        .service(ask::post)
        .service(ask::check);
}

/// The OpenAPI document.
pub(crate) async fn document(_: Access<Read>, document: web::Data<OpenApi>) -> HttpResponse {
    HttpResponse::Ok().json(document.get_ref())
}

/// Reads a small JSON body, and says where it is wrong.
pub(crate) fn read_json<T: serde::de::DeserializeOwned>(body: &[u8]) -> Result<T, Problem> {
    serde_json::from_slice(body).map_err(|error| Problem::new(Sort::Request, format!("the body cannot be read as JSON: {error}")))
}
