//! Checks before the start that the process may use as much memory as its configuration allows.

use fenetre_core::keeping::ByteSize;

use crate::config::Config;

/// Bytes of address space besides points and bodies: the program, its threads and their stacks. Measured on two cores: 0.8 GB.
const BASE: u64 = 900_000_000;
/// Bytes of address space for each core: threads and their stacks.
const PER_CORE: u64 = 100_000_000;

/// The message if the limit of the process (`ulimit -v`) is too low; none if it is not.
pub fn too_little(config: &Config) -> Option<String> {
    let allowed = rustix::process::getrlimit(rustix::process::Resource::As).current?;
    let cores = std::thread::available_parallelism().map_or(2, |cores| cores.get() as u64);
    let (points, bodies) = (config.store_options.memory as u64, config.limits.max_total_body_bytes as u64);
    let needed = BASE + PER_CORE * cores + points + bodies;
    (allowed < needed).then(|| {
        let words = |bytes: u64| ByteSize(bytes).words();
        format!(
            "too little memory: this process may use {} (`ulimit -v`), but needs up to {}: {} for the service, {} for points (`memory_mb`) and {} for bodies (`max_total_body_bytes`). Raise the limit, or lower these",
            words(allowed),
            words(needed),
            words(BASE + PER_CORE * cores),
            words(points),
            words(bodies)
        )
    })
}
