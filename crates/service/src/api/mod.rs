//! Every call, one file a resource, with the types that travel. The command line uses the same types.

pub mod arrivals;
pub mod ask;
pub mod backup;
pub mod bin;
mod body;
pub mod datasets;
pub mod definitions;
pub(crate) mod document;
pub mod health;
pub mod imports;
pub mod mappings;
pub mod otlp;
pub mod outlook;
pub mod overview;
pub mod points;
pub mod references;
pub mod retention;
pub mod rollup_figures;
pub mod rollups;
pub mod series;
pub mod storage;

use std::time::{Duration, Instant};

use actix_web::web;
use futures_util::StreamExt;
use utoipa_actix_web::service_config::ServiceConfig;

pub(crate) use body::{Document as Body, read_json};

use crate::problem::{Problem, Sort};

/// Adds every call.
pub(crate) fn mount(config: &mut ServiceConfig<'_>) {
    config
        .service(health::live)
        .service(health::ready)
        .service(overview::overview)
        .service(storage::storage)
        .service(storage::top)
        .service(storage::verify)
        .service(storage::compact)
        .service(storage::tidy)
        .service(storage::accept_loss)
        .service(retention::show)
        .service(retention::set)
        .service(retention::write_file)
        .service(retention::expire)
        .service(rollups::preview)
        .service(rollups::fill)
        .service(rollups::show)
        .service(rollups::set)
        .service(rollups::remove)
        .service(backup::begin)
        .service(backup::look)
        .service(backup::stop)
        .service(datasets::list)
        .service(datasets::put)
        .service(datasets::list_metrics)
        .service(datasets::put_metric)
        .service(datasets::rename)
        .service(definitions::put_many)
        .service(definitions::table)
        .service(definitions::put_table)
        .service(datasets::rename_metric)
        .service(datasets::list_tags)
        .service(datasets::put_tag)
        .service(datasets::rename_tag)
        .service(datasets::forget_name)
        .service(references::list)
        .service(bin::delete_metric)
        .service(bin::delete_points)
        .service(bin::list)
        .service(bin::restore)
        .service(bin::erase)
        .service(mappings::list)
        .service(mappings::show)
        .service(mappings::put)
        .service(mappings::remove)
        .service(imports::upload)
        .service(imports::list)
        .service(imports::show)
        .service(imports::look_at)
        .service(imports::run)
        .service(imports::stop)
        .service(imports::forget)
        .service(imports::rejects)
        .service(arrivals::refused)
        .service(arrivals::tail)
        .service(otlp::export)
        .service(otlp::export_into)
        .service(series::list)
        .service(series::latest)
        .service(points::push)
        .service(ask::get)
        .service(ask::post)
        .service(ask::check)
        .service(ask::explain)
        .service(ask::complete);
}

/// How long a caller may send nothing in the middle of a body.
const STALLED: Duration = Duration::from_secs(30);

/// Minimum rate of a body in bytes per second, after a grace period of [`STALLED`].
const LEAST_RATE: u64 = 1_000;

/// Progress of a body that is being received.
pub(crate) struct Arrival {
    since: Instant,
    bytes: u64,
}

impl Arrival {
    /// A body whose first byte is awaited.
    pub(crate) fn new() -> Self {
        Self { since: Instant::now(), bytes: 0 }
    }

    /// Counts bytes that have arrived `passed` after the start, and checks the rate: a slow body must not hold memory and a connection for ever.
    fn check(&mut self, bytes: usize, passed: Duration) -> Result<(), Problem> {
        self.bytes += bytes as u64;
        if passed > STALLED && self.bytes < LEAST_RATE * passed.as_secs() {
            let text = format!("the body arrived at less than {LEAST_RATE} bytes per second over {} s, so nothing was kept", passed.as_secs());
            return Err(Problem::new(Sort::Stalled, text));
        }
        Ok(())
    }
}

/// The next part of a body, none at its end. A caller that stops sending, or hardly sends, does not keep what it holds for ever.
pub(crate) async fn next_chunk(payload: &mut web::Payload, arrival: &mut Arrival) -> Result<Option<web::Bytes>, Problem> {
    match tokio::time::timeout(STALLED, payload.next()).await {
        Ok(Some(Ok(chunk))) => arrival.check(chunk.len(), arrival.since.elapsed()).map(|()| Some(chunk)),
        Ok(chunk) => chunk.transpose().map_err(|error| Problem::new(Sort::Request, format!("the body did not arrive whole: {error}"))),
        Err(_) => Err(Problem::new(Sort::Stalled, format!("nothing of the body came for {} s, so nothing of it was kept", STALLED.as_secs()))),
    }
}

/// Collects a body of at most so many bytes.
pub(crate) async fn read_all(payload: &mut web::Payload, most: usize) -> Result<Vec<u8>, Problem> {
    let (mut body, mut arrival) = (Vec::new(), Arrival::new());
    while let Some(chunk) = next_chunk(payload, &mut arrival).await? {
        if body.len() + chunk.len() > most {
            return Err(Problem::new(Sort::TooLarge, format!("the body is larger than {most} bytes: send it in smaller parts")));
        }
        body.extend_from_slice(&chunk);
    }
    Ok(body)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_body_that_trickles_in_is_cut_and_a_slow_one_is_not() {
        let arrives = |bytes_a_second: usize| {
            let mut arrival = Arrival::new();
            (1..=120).find(|second| arrival.check(bytes_a_second, Duration::from_secs(*second)).is_err())
        };
        assert_eq!((arrives(1), arrives(999), arrives(1_000)), (Some(31), Some(31), None));
    }
}
