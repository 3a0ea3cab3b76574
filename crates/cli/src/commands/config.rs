//! `fenetre config check`

use std::path::Path;

use fenetre_core::keeping::Said;
use fenetre_service::Config;

use crate::failure::Failure;

/// Reads a configuration and prints what holds.
pub fn check(file: &Path) -> Result<(), Failure> {
    let Config { store, store_options, address, json_log, log_level, limits, file: _ } = Config::read(file)?;
    outln!("{} is right. What holds:", file.display());
    outln!("  store    {}", store.display());
    let megabytes = store_options.memory >> 20;
    let points = if store_options.pack_points == usize::MAX { String::new() } else { format!("{} points, or ", store_options.pack_points) };
    outln!("  batches  durability {}", store_options.durability);
    outln!("  memory   {megabytes} MB for points that wait to be packed");
    outln!("  packing  at {points}{} MB, or after {} s", megabytes / 4, store_options.pack_after.as_secs());
    outln!("  compact  partitions that were quiet for {} s", store_options.compact_after.as_secs());
    outln!("  files    up to {} partitions kept open", store_options.open_partitions);
    outln!("  listen   {address}");
    outln!("  log      {}, {log_level} and above", if json_log { "JSON" } else { "text" });
    outln!("  bodies   up to {} bytes, {} unfolded, {} in all at once", limits.body_bytes, limits.unpacked_bytes, limits.all_bodies_bytes);
    let told = |said: Said| {
        let keep_for = said.keep_for.flatten().map_or("for ever".to_owned(), |span| format!("for {span}"));
        said.keep_under.flatten().map_or(keep_for.clone(), |size| format!("{keep_for}, under {size}"))
    };
    let reserve = store_options.reserve.map_or("5%, at most 2GB".to_owned(), |reserve| reserve.to_string());
    outln!("  keeping  {}; {reserve} of the volume stays free", told(store_options.retention.store));
    for (name, of) in &store_options.retention.datasets {
        outln!("           {name}  {}", told(of.said));
        of.metrics.iter().for_each(|(metric, said)| outln!("           {name}::{metric}  {}", told(*said)));
    }
    let query = limits.query;
    outln!("  queries  up to {} series, {} cells, {} points, {} s", query.series, query.cells, query.points, limits.query_seconds);
    Ok(())
}
