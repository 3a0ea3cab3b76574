//! `fenetre config check`

use std::path::Path;

use fenetre_core::keeping::LimitSettings;
use fenetre_service::{Config, tls::certificate::Certificate};

use crate::failure::{Failure, WRONG};

/// Reads a configuration and prints what holds.
pub fn check(file: &Path) -> Result<(), Failure> {
    let Config { store, store_options, address, tls, proxies, access, json_log, log_level, limits, own_every, file: _ } = Config::read(file)?;
    if let Some(files) = &tls {
        Certificate::open(files, fenetre_service::now())
            .and_then(|certificate| certificate.server_config())
            .map_err(|error| Failure::new(WRONG, error.to_string()))?;
    }
    outln!("{} is valid. Settings in force:", file.display());
    outln!("  store    {}", store.display());
    let megabytes = store_options.memory >> 20;
    let points = if store_options.pack_points == usize::MAX { String::new() } else { format!("{} points, or ", store_options.pack_points) };
    outln!("  batches  durability {}", store_options.durability);
    outln!("  memory   {megabytes} MB for unpacked points");
    outln!("  packing  at {points}{} MB, or after {} s", megabytes / 4, store_options.pack_after.as_secs());
    outln!("  compact  partitions without new points for {} s", store_options.compact_after.as_secs());
    outln!("  files    at most {} open partitions", store_options.max_open_partitions);
    let behind = proxies.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    let how = match (&tls, proxies.is_empty()) {
        (Some(_), true) => ", TLS".to_owned(),
        (Some(_), false) => format!(", TLS, behind {behind}"),
        (None, false) => format!(", behind {behind}"),
        (None, true) => String::new(),
    };
    outln!("  listen   {address}{how}");
    let is_open = access.is_loopback_open && address.ip().is_loopback() && proxies.is_empty();
    outln!("  access   {}", if is_open { "callers on this machine need no token" } else { "every caller needs a token" });
    outln!(
        "  own      {}",
        own_every.map_or("the metrics of the service are not stored".to_owned(), |every| format!(
            "the metrics of the service are stored every {} s",
            every.as_secs()
        ))
    );
    outln!("  sinks    up to {} of the journal is held for them", fenetre_core::keeping::ByteSize(store_options.hold_bytes).words());
    outln!("  log      {}, {log_level} and above", if json_log { "JSON" } else { "text" });
    outln!(
        "  bodies   at most {} bytes, {} decompressed, {} in total",
        limits.max_body_bytes,
        limits.max_decompressed_bytes,
        limits.max_total_body_bytes
    );
    let describe = |limits: LimitSettings| {
        let keep_for = limits.keep_for.flatten().map_or("no age limit".to_owned(), |span| format!("for {span}"));
        limits.keep_under.flatten().map_or(keep_for.clone(), |size| format!("{keep_for}, under {size}"))
    };
    let reserve = store_options.reserve.map_or("5%, at most 2GB".to_owned(), |reserve| reserve.to_string());
    outln!("  keep     {}; reserve {reserve} of the volume", describe(store_options.retention.store));
    for (name, of) in &store_options.retention.datasets {
        outln!("           {name}  {}", describe(of.limits));
        of.metrics.iter().for_each(|(metric, limits)| outln!("           {name}::{metric}  {}", describe(*limits)));
    }
    let query = limits.query;
    outln!("  queries  at most {} series, {} cells, {} points, {} s", query.series, query.cells, query.points, limits.max_query_seconds);
    Ok(())
}
