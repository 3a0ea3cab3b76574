//! Arrivals: rejects by reason, and the live tail as server-sent events (WHATWG HTML, section 9.2).

use actix_web::{HttpResponse, get, web};
use fenetre_access::grant::Action;
use fenetre_core::{
    time::{SECOND, format_utc},
    visibility::{Visibility, VisibleCatalogue},
};
use fenetre_wire::arrivals::{CauseCount, Refusals, TailReport};
use futures_util::{StreamExt, stream};
use serde::Deserialize;
use tokio::sync::broadcast::error::RecvError;
use utoipa::IntoParams;

use crate::{
    clock::now,
    permission::{Access, ReadAllGrant, ReadGrant},
    problem::{ApiError, Problem},
    state::{AppState, State},
};

/// Counts rejected points since the start of the service, by reason.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "points", responses((status = 200, body = Refusals), (status = 403, body = Problem)))]
#[get("/api/v1/arrivals/refused")]
pub(crate) async fn refused(caller: Access<ReadAllGrant>, state: AppState) -> web::Json<Refusals> {
    let visibility = caller.visibility();
    let mut causes: Vec<CauseCount> = state
        .intake
        .arrivals
        .causes(|dataset| is_visible(&state, &visibility, dataset))
        .into_iter()
        .map(|(cause, dataset, latest)| CauseCount {
            cause: serde_json::to_value(cause).ok().and_then(|word| word.as_str().map(str::to_owned)).unwrap_or_default(),
            text: cause.describe().to_owned(),
            count: latest.count,
            dataset,
            time: format_utc(latest.second * SECOND),
            example: latest.example,
        })
        .collect();
    causes.sort_by_key(|cause| std::cmp::Reverse(cause.count));
    web::Json(Refusals { since: format_utc(state.started), causes })
}

fn is_visible(state: &State, visibility: &Visibility, dataset: &str) -> bool {
    state.store.with_catalogue(|catalogue| VisibleCatalogue::new(catalogue, visibility).dataset_by_any_name(dataset).is_some())
}

/// Which dataset's.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct TailFilter {
    /// Only this dataset.
    dataset: Option<String>,
}

/// Streams arriving batches as server-sent events.
///
/// Each event has the first points of a batch. A slow client misses batches.
#[utoipa::path(security(("token" = ["read"])), tag = "points", params(TailFilter), responses((status = 200, body = TailReport, content_type = "text/event-stream"), (status = 403, body = Problem)))]
#[get("/api/v1/arrivals/tail")]
pub(crate) async fn tail(caller: Access<ReadGrant>, state: AppState, filter: web::Query<TailFilter>) -> Result<HttpResponse, ApiError> {
    if let Some(dataset) = &filter.dataset {
        state.store.with_catalogue(|catalogue| caller.require(Action::Read, catalogue, dataset).map(|_| ()))?;
    }
    let visibility = caller.visibility();
    let opened = format!(": the tail of {} begins {}\n\n", filter.dataset.as_deref().unwrap_or("all datasets"), format_utc(now()));
    let watched = (state.intake.tail.watch(), filter.into_inner().dataset, visibility, state);
    let events = stream::unfold(watched, |(mut watch, only, visibility, state)| async move {
        loop {
            let wait = tokio::time::timeout(std::time::Duration::from_secs(15), watch.recv()).await;
            let event = match wait {
                // A comment now and then keeps proxies from closing the connection.
                Err(_) => ": nothing for a while\n\n".to_owned(),
                Ok(Ok(None)) => return None,
                Ok(Ok(Some(report))) if only.as_ref().is_some_and(|only| *only != report.dataset) => continue,
                Ok(Ok(Some(report))) if !is_visible(&state, &visibility, &report.dataset) => continue,
                Ok(Ok(Some(mut report))) => {
                    report.points.retain(|point| visibility.has_metric(&point.metric));
                    format!("event: batch\ndata: {}\n\n", serde_json::to_string(&report).unwrap_or_default())
                }
                Ok(Err(RecvError::Lagged(missed))) => format!("event: missed\ndata: {missed}\n\n"),
                Ok(Err(RecvError::Closed)) => return None,
            };
            return Some((Ok::<_, std::convert::Infallible>(web::Bytes::from(event)), (watch, only, visibility, state)));
        }
    });
    let first = stream::once(async move { Ok(web::Bytes::from(opened)) });
    let mut answer = HttpResponse::Ok();
    answer.content_type("text/event-stream").insert_header(("Cache-Control", "no-store")).insert_header(("Content-Encoding", "identity"));
    Ok(answer.streaming(first.chain(events)))
}
