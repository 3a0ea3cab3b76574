//! `fenetre config check`

use std::path::Path;

use fenetre_service::Config;

use crate::failure::Failure;

/// Reads a configuration and prints what holds.
pub fn check(file: &Path) -> Result<(), Failure> {
    let Config { store, packing, address, json_log, log_level, limits } = Config::read(file)?;
    println!("{} is right. What holds:", file.display());
    println!("  store    {}", store.display());
    println!("  packing  {} points, or after {} s", packing.pack_points, packing.pack_after.as_secs());
    println!("  listen   {address}");
    println!("  log      {}, {log_level} and above", if json_log { "JSON" } else { "text" });
    println!("  bodies   up to {} bytes, {} unfolded", limits.body_bytes, limits.unpacked_bytes);
    let query = limits.query;
    println!("  queries  up to {} series, {} cells, {} points, {} s", query.series, query.cells, query.points, limits.query_seconds);
    Ok(())
}
