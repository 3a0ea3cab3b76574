//! References to a dataset, a metric or a tag by its name.

use actix_web::{get, web};
use fenetre_wire::datasets::Reference;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::{
    permission::{Access, ReadAllGrant},
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, State, blocking},
    views::references::{ReferenceTarget, of},
};

/// To what.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct To {
    /// Only references to this metric.
    metric: Option<String>,
    /// Only references to this tag.
    tag: Option<String>,
}

/// Lists what refers to a dataset, a metric or a tag by its name.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "catalogue", params(("dataset" = String, Path), To), responses((status = 200, body = [Reference]), (status = 400, body = Problem), (status = 403, body = Problem)))]
#[get("/api/v1/datasets/{dataset}/references")]
pub(crate) async fn list(
    caller: Access<ReadAllGrant>,
    state: AppState,
    dataset: web::Path<String>,
    to: web::Query<To>,
) -> Result<web::Json<Vec<Reference>>, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| match (&to.metric, &to.tag) {
        (None, None) => of(state, &caller, ReferenceTarget::Dataset, &dataset),
        (Some(metric), None) => of(state, &caller, ReferenceTarget::Metric, metric),
        (None, Some(tag)) => of(state, &caller, ReferenceTarget::Tag, tag),
        (Some(_), Some(_)) => Err(ApiError::new(ProblemKind::Request, "give a metric or a tag, not both")),
    };
    blocking(&state, work).await.map(web::Json)
}
