//! Every call, one file a resource, with the types that travel. The command line uses the same types.

pub mod arrivals;
pub mod ask;
pub mod backup;
pub mod bin;
pub mod changes;
pub mod datasets;
pub mod definitions;
pub mod description;
pub mod flows;
pub mod health;
pub mod imports;
pub mod jobs;
pub mod mappings;
pub mod otlp;
pub mod overview;
pub mod own;
pub mod points;
pub mod references;
pub mod retention;
pub mod rollup_figures;
pub mod rollups;
pub mod secrets;
pub mod series;
pub mod session;
pub mod sinks;
pub mod sources;
pub mod storage;
pub mod tokens;

use utoipa_actix_web::service_config::ServiceConfig;

pub(crate) use crate::http::body::{Document as Body, read_json};

/// Adds every call.
pub(crate) fn mount(config: &mut ServiceConfig<'_>) {
    config
        .service(health::live)
        .service(health::ready)
        .service(own::metrics)
        .service(session::show)
        .service(session::begin)
        .service(session::end)
        .service(tokens::list)
        .service(tokens::create)
        .service(tokens::rotate)
        .service(tokens::suspend)
        .service(tokens::resume)
        .service(tokens::revoke)
        .service(changes::list)
        .service(overview::overview)
        .service(jobs::list)
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
        .service(secrets::list)
        .service(secrets::put)
        .service(secrets::remove)
        .service(sinks::list)
        .service(sinks::list_examples)
        .service(sinks::attempt)
        .service(sinks::show)
        .service(sinks::list_events)
        .service(sinks::put)
        .service(sinks::remove)
        .service(sinks::pause)
        .service(sinks::resume)
        .service(sinks::replay)
        .service(sinks::verify)
        .service(sinks::resend)
        .service(sinks::list_aside)
        .service(sinks::show_aside)
        .service(sinks::remove_aside)
        .service(sources::list)
        .service(sources::list_callers)
        .service(sources::list_examples)
        .service(sources::attempt)
        .service(sources::show)
        .service(sources::list_events)
        .service(sources::put)
        .service(sources::remove)
        .service(sources::pause)
        .service(sources::resume)
        .service(sources::run)
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
