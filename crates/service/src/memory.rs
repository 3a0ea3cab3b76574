//! Memory of the process: its use, and whether the configured limits fit the machine.

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

/// Resident memory of the process in bytes, and its open files; 0 where the system does not show them.
pub fn in_use() -> (u64, usize) {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let kilobytes = status.lines().find_map(|line| line.strip_prefix("VmRSS:")?.trim().strip_suffix(" kB")?.parse::<u64>().ok());
    let files = std::fs::read_dir("/proc/self/fd").map_or(0, Iterator::count);
    (kilobytes.unwrap_or(0) * 1_024, files)
}
