//! The configuration file: TOML, every key optional, checked with line and column.

pub mod file;

use std::{
    collections::BTreeMap,
    net::{IpAddr, SocketAddr},
    ops::Range,
    path::{Path, PathBuf},
    time::Duration,
};

use fenetre_core::{
    keeping::{ByteSize, LimitSettings},
    plan::Limits,
    time::{Nanos, SECOND, Span},
};
use fenetre_store::{FileDataset, Options};
use ipnet::IpNet;
use serde::Deserialize;
use toml::Spanned;

/// Dataset of the metrics of the service.
pub const OWN: &str = "own";
/// Days for which they are kept (default).
const OWN_DAYS: u32 = 30;

/// Where the service listens by default.
pub const DEFAULT_ADDRESS: &str = "127.0.0.1:7430";
const DEFAULT_STORE: &str = "fenetre-data";

/// Settings of the service.
#[derive(Clone, Debug)]
pub struct Config {
    /// The store's directory.
    pub store: PathBuf,
    /// What the store may take and how it keeps its promises.
    pub store_options: Options,
    /// Where to listen.
    pub address: SocketAddr,
    /// The certificate of the service, if it speaks TLS.
    pub tls: Option<TlsFiles>,
    /// Networks of the proxies that it is behind, if it is.
    pub proxies: Vec<IpNet>,
    /// Who needs a token.
    pub access: AccessSettings,
    /// Log lines as JSON, and not as text.
    pub json_log: bool,
    /// Which log lines: `error`, `warn`, `info`, `debug` or `trace`.
    pub log_level: String,
    /// Limits of a call.
    pub limits: CallLimits,
    /// Interval at which the service stores its own metrics; none if it does not store them.
    pub own_every: Option<Duration>,
    /// The file that this was read from, if it was.
    pub file: Option<PathBuf>,
}

/// Files for TLS, in PEM.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TlsFiles {
    /// The certificate, and those that lead from it to an authority.
    pub certificate: PathBuf,
    /// Its private key.
    pub key: PathBuf,
    /// Authorities of the certificates that clients must have, if they must.
    pub client_ca: Option<PathBuf>,
}

/// Who needs a token.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AccessSettings {
    /// Callers on the machine of the service need none, if the service listens there only.
    pub is_loopback_open: bool,
    /// Changes are kept in their record for this time, in nanoseconds. A month has 30 days here.
    pub changes_keep: Nanos,
}

/// Limits of a call.
#[derive(Clone, Copy, Debug)]
pub struct CallLimits {
    /// Bytes of a body as sent.
    pub max_body_bytes: usize,
    /// Bytes of a body decompressed.
    pub max_decompressed_bytes: usize,
    /// Bytes of all bodies that are being taken at once, as they travel and decompressed.
    pub max_total_body_bytes: usize,
    /// Bytes of an imported file as sent.
    pub max_import_bytes: u64,
    /// Points further ahead of the clock are rejected, in nanoseconds.
    pub max_future: Nanos,
    /// Data is erased after this time in the bin, in nanoseconds.
    pub bin_retention: Nanos,
    /// Seconds that a query may run.
    pub max_query_seconds: u64,
    /// What a query may match and give.
    pub query: Limits,
}

/// A fault in a configuration, with its place.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ConfigError {
    /// The file cannot be read.
    #[error("cannot read {path}: {reason}")]
    Unreadable {
        /// The file.
        path: String,
        /// Why not.
        reason: String,
    },
    /// Something in the file is wrong.
    #[error("{path}:{line}:{column}: {reason}")]
    Wrong {
        /// The file.
        path: String,
        /// From 1.
        line: usize,
        /// From 1, in characters.
        column: usize,
        /// What is wrong, and what to do.
        reason: String,
    },
    /// An option of the command line is wrong.
    #[error("{0}")]
    Option(String),
}

#[derive(Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct FileConfig {
    store: StoreTable,
    listen: ListenTable,
    log: LogTable,
    access: AccessTable,
    limits: LimitsTable,
    own: OwnTable,
    sinks: SinksTable,
    retention: RetentionTable,
}

#[derive(Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct OwnTable {
    every: Option<Spanned<String>>,
}

#[derive(Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct SinksTable {
    hold: Option<Spanned<String>>,
}

#[derive(Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct AccessTable {
    loopback: Option<Spanned<String>>,
    changes_keep: Option<Spanned<String>>,
}

#[derive(Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct RetentionTable {
    keep_for: Option<Spanned<String>>,
    keep_under: Option<Spanned<String>>,
    reserve: Option<Spanned<String>>,
    datasets: BTreeMap<String, RetentionOfDataset>,
}

#[derive(Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct RetentionOfDataset {
    keep_for: Option<Spanned<String>>,
    keep_under: Option<Spanned<String>>,
    metrics: BTreeMap<String, RetentionOfMetric>,
}

#[derive(Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct RetentionOfMetric {
    keep_for: Option<Spanned<String>>,
    keep_under: Option<Spanned<String>>,
}

#[derive(Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct StoreTable {
    path: Option<PathBuf>,
    durability: Option<Spanned<String>>,
    memory_mb: Option<Spanned<usize>>,
    pack_points: Option<Spanned<usize>>,
    pack_after_seconds: Option<Spanned<usize>>,
    compact_after_seconds: Option<Spanned<usize>>,
    max_open_partitions: Option<Spanned<usize>>,
}

#[derive(Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct ListenTable {
    address: Option<Spanned<String>>,
    certificate: Option<Spanned<PathBuf>>,
    key: Option<Spanned<PathBuf>>,
    client_ca: Option<PathBuf>,
    behind_proxy: Option<Spanned<bool>>,
    proxies: Option<Spanned<Vec<String>>>,
}

#[derive(Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct LogTable {
    format: Option<Spanned<String>>,
    level: Option<Spanned<String>>,
}

#[derive(Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct LimitsTable {
    max_body_bytes: Option<Spanned<usize>>,
    max_decompressed_bytes: Option<Spanned<usize>>,
    max_total_body_bytes: Option<Spanned<usize>>,
    max_import_bytes: Option<Spanned<usize>>,
    max_future: Option<Spanned<String>>,
    bin_retention: Option<Spanned<String>>,
    max_query_seconds: Option<Spanned<u64>>,
    max_series: Option<Spanned<usize>>,
    max_lines: Option<Spanned<usize>>,
    max_cells: Option<Spanned<usize>>,
    max_points: Option<Spanned<usize>>,
    max_decoded_points: Option<Spanned<usize>>,
    max_held_values: Option<Spanned<usize>>,
}

impl Default for Config {
    fn default() -> Self {
        let mut store_options = Options::default();
        store_options.retention.datasets.insert(OWN.to_owned(), own_retention());
        Self {
            store: DEFAULT_STORE.into(),
            store_options,
            address: SocketAddr::from(([127, 0, 0, 1], 7430)),
            tls: None,
            proxies: Vec::new(),
            access: AccessSettings { is_loopback_open: true, changes_keep: 720 * 24 * 3_600 * SECOND },
            json_log: false,
            log_level: "info".to_owned(),
            limits: CallLimits {
                max_body_bytes: 64 << 20,
                max_decompressed_bytes: 256 << 20,
                max_total_body_bytes: 512 << 20,
                max_import_bytes: 64 << 30,
                max_future: 24 * 3_600 * SECOND,
                bin_retention: 7 * 24 * 3_600 * SECOND,
                max_query_seconds: 30,
                query: Limits::default(),
            },
            own_every: Some(Duration::from_secs(30)),
            file: None,
        }
    }
}

/// Default retention of the metrics of the service.
fn own_retention() -> FileDataset {
    let keep_for = Some(Some(Span { days: OWN_DAYS, ..Span::default() }));
    FileDataset { limits: LimitSettings { keep_for, keep_under: None }, metrics: BTreeMap::new() }
}

impl Config {
    /// Reads a file; a relative store path in it is relative to the file.
    ///
    /// # Errors
    /// [`ConfigError`], with line and column.
    pub fn read(path: &Path) -> Result<Self, ConfigError> {
        let name = path.display().to_string();
        let text = std::fs::read_to_string(path).map_err(|error| ConfigError::Unreadable { path: name.clone(), reason: error.to_string() })?;
        let mut config = Self::parse(&text, &name)?;
        if let Some(folder) = path.parent() {
            config.store = folder.join(&config.store);
            if let Some(TlsFiles { certificate, key, client_ca }) = &mut config.tls {
                (*certificate, *key) = (folder.join(&certificate), folder.join(&key));
                *client_ca = client_ca.as_ref().map(|file| folder.join(file));
            }
        }
        config.file = Some(path.to_owned());
        Ok(config)
    }

    /// Reads a configuration's text; `name` is what errors call it.
    ///
    /// # Errors
    /// [`ConfigError::Wrong`].
    pub fn parse(text: &str, name: &str) -> Result<Self, ConfigError> {
        let wrong = |span: Option<Range<usize>>, reason: String| {
            let (line, column) = place(text, span.map_or(0, |span| span.start));
            ConfigError::Wrong { path: name.to_owned(), line, column, reason }
        };
        if let Some((span, old, new)) = renamed_key(text) {
            return Err(wrong(Some(span), format!("`{old}` is called `{new}` now")));
        }
        let file: FileConfig = toml::from_str(text).map_err(|error| wrong(error.span(), error.message().to_owned()))?;
        let mut config = Self::default();
        if let Some(path) = file.store.path {
            config.store = path;
        }
        let ListenTable { address, certificate, key, client_ca, behind_proxy, proxies } = file.listen;
        config.tls = match (certificate, key) {
            (Some(certificate), Some(key)) => Some(TlsFiles { certificate: certificate.into_inner(), key: key.into_inner(), client_ca }),
            (Some(alone), None) => return Err(wrong(Some(alone.span()), "a certificate needs `key`, the file of its private key".to_owned())),
            (None, Some(alone)) => return Err(wrong(Some(alone.span()), "a key needs `certificate`, the file of its certificate".to_owned())),
            (None, None) if client_ca.is_some() => return Err(wrong(None, "`client_ca` under [listen] needs `certificate` and `key`".to_owned())),
            (None, None) => None,
        };
        config.proxies = match (behind_proxy, proxies) {
            (Some(behind), networks) if *behind.get_ref() => {
                let Some(networks) = networks.filter(|networks| !networks.get_ref().is_empty()) else {
                    let text = "`behind_proxy` needs `proxies`, the networks of the proxies, such as [\"127.0.0.1/32\"]";
                    return Err(wrong(Some(behind.span()), text.to_owned()));
                };
                networks
                    .get_ref()
                    .iter()
                    .map(|text| network(text))
                    .collect::<Result<_, _>>()
                    .map_err(|reason| wrong(Some(networks.span()), reason))?
            }
            (_, Some(networks)) => return Err(wrong(Some(networks.span()), "`proxies` needs `behind_proxy = true`".to_owned())),
            (_, None) => Vec::new(),
        };
        if let Some(address) = address {
            config.address = socket(address.get_ref()).map_err(|reason| wrong(Some(address.span()), reason))?;
            if let Some(fault) = config.exposure() {
                return Err(wrong(Some(address.span()), fault));
            }
        }
        let choice = |value: &Option<Spanned<String>>, known: &[&str]| match value {
            Some(value) if !known.contains(&value.get_ref().as_str()) => {
                Err(wrong(Some(value.span()), format!("`{}` is none of: {}", value.get_ref(), known.join(", "))))
            }
            other => Ok(other.as_ref().map(|value| value.get_ref().clone())),
        };
        config.json_log = choice(&file.log.format, &["text", "json"])?.is_some_and(|format| format == "json");
        if let Some(level) = choice(&file.log.level, &["error", "warn", "info", "debug", "trace"])? {
            config.log_level = level;
        }
        let AccessTable { loopback, changes_keep } = file.access;
        config.access.is_loopback_open = choice(&loopback, &["open", "tokens"])?.is_none_or(|choice| choice == "open");
        let limits = file.limits;
        let set = |value: Option<Spanned<usize>>, slot: &mut usize| match value {
            Some(value) if *value.get_ref() == 0 => Err(wrong(Some(value.span()), "0 would leave room for nothing".to_owned())),
            Some(value) => {
                *slot = value.into_inner();
                Ok(())
            }
            None => Ok(()),
        };
        let options = &mut config.store_options;
        if let Some(durability) = file.store.durability {
            options.durability = durability.get_ref().parse().map_err(|reason| wrong(Some(durability.span()), reason))?;
        }
        let (mut megabytes, mut after, mut quiet) =
            (options.memory >> 20, options.pack_after.as_secs() as usize, options.compact_after.as_secs() as usize);
        set(file.store.memory_mb, &mut megabytes)?;
        set(file.store.pack_points, &mut options.pack_points)?;
        set(file.store.pack_after_seconds, &mut after)?;
        set(file.store.compact_after_seconds, &mut quiet)?;
        set(file.store.max_open_partitions, &mut options.max_open_partitions)?;
        options.memory = megabytes.saturating_mul(1 << 20);
        (options.pack_after, options.compact_after) = (Duration::from_secs(after as u64), Duration::from_secs(quiet as u64));
        set(limits.max_body_bytes, &mut config.limits.max_body_bytes)?;
        set(limits.max_decompressed_bytes, &mut config.limits.max_decompressed_bytes)?;
        set(limits.max_total_body_bytes, &mut config.limits.max_total_body_bytes)?;
        let span = |value: Option<Spanned<String>>, slot: &mut Nanos| {
            let Some(value) = value else { return Ok(()) };
            let span = Span::parse(value.get_ref()).map_err(|error| wrong(Some(value.span()), error.to_string()))?;
            // A calendar is not needed to say how far is too far: months are of 30 days here.
            let days = i64::from(span.months) * 30 + i64::from(span.days);
            *slot = span.nanos.saturating_add(days.saturating_mul(24 * 3_600 * SECOND));
            Ok(())
        };
        span(changes_keep, &mut config.access.changes_keep)?;
        span(limits.max_future, &mut config.limits.max_future)?;
        span(limits.bin_retention, &mut config.limits.bin_retention)?;
        let mut max_import_bytes = usize::try_from(config.limits.max_import_bytes).unwrap_or(usize::MAX);
        set(limits.max_import_bytes, &mut max_import_bytes)?;
        config.limits.max_import_bytes = max_import_bytes as u64;
        set(limits.max_series, &mut config.limits.query.series)?;
        set(limits.max_lines, &mut config.limits.query.lines)?;
        set(limits.max_cells, &mut config.limits.query.cells)?;
        set(limits.max_points, &mut config.limits.query.points)?;
        set(limits.max_decoded_points, &mut config.limits.query.decoded)?;
        set(limits.max_held_values, &mut config.limits.query.held)?;
        let limits_of = |keep_for: Option<Spanned<String>>, keep_under: Option<Spanned<String>>| {
            let fault = |value: &Spanned<String>, reason: String| wrong(Some(value.span()), reason);
            let keep_for = keep_for.map(|text| Span::parse(text.get_ref()).map_err(|error| fault(&text, error.to_string()))).transpose()?;
            let keep_under =
                keep_under.map(|text| text.get_ref().parse::<ByteSize>().map_err(|error| fault(&text, error.to_string()))).transpose()?;
            Ok(LimitSettings { keep_for: keep_for.map(Some), keep_under: keep_under.map(Some) })
        };
        let RetentionTable { keep_for, keep_under, reserve, datasets } = file.retention;
        let retention = &mut config.store_options.retention;
        retention.store = limits_of(keep_for, keep_under)?;
        for (name, of) in datasets {
            let metrics = of.metrics.into_iter().map(|(name, of)| Ok((name, limits_of(of.keep_for, of.keep_under)?))).collect::<Result<_, _>>()?;
            retention.datasets.insert(name, FileDataset { limits: limits_of(of.keep_for, of.keep_under)?, metrics });
        }
        if let Some(reserve) = reserve {
            config.store_options.reserve = Some(reserve.get_ref().parse().map_err(|reason| wrong(Some(reserve.span()), reason))?);
        }
        if let Some(every) = file.own.every {
            config.own_every = own_every(every.get_ref()).map_err(|reason| wrong(Some(every.span()), reason))?;
        }
        if let Some(hold) = file.sinks.hold {
            let size = hold.get_ref().parse::<ByteSize>().map_err(|error| wrong(Some(hold.span()), error.to_string()))?;
            config.store_options.hold_bytes = size.0;
        }
        match limits.max_query_seconds {
            Some(seconds) if *seconds.get_ref() == 0 => return Err(wrong(Some(seconds.span()), "0 would leave room for nothing".to_owned())),
            Some(seconds) => config.limits.max_query_seconds = seconds.into_inner(),
            None => {}
        }
        Ok(config)
    }

    /// Sets the interval of the service's own metrics: 1s to 1h, or `none`.
    ///
    /// # Errors
    /// [`ConfigError::Option`] for any other text.
    pub fn watch_itself(&mut self, every: &str) -> Result<(), ConfigError> {
        self.own_every = own_every(every).map_err(ConfigError::Option)?;
        Ok(())
    }

    /// Listens elsewhere, as the command line says.
    ///
    /// # Errors
    /// [`ConfigError::Option`] if it is none, or other machines could reach it unprotected.
    pub fn listen_on(&mut self, address: &str) -> Result<(), ConfigError> {
        self.address = socket(address).map_err(ConfigError::Option)?;
        self.exposure().map_or(Ok(()), |fault| Err(ConfigError::Option(fault)))
    }

    /// Whether callers on the machine of the service need no token: it listens there only, and no proxy brings calls from elsewhere.
    pub fn is_open(&self) -> bool {
        self.access.is_loopback_open && self.address.ip().is_loopback() && self.proxies.is_empty()
    }

    /// What is wrong if other machines could read tokens and points on their way, with the ways out.
    fn exposure(&self) -> Option<String> {
        let address = self.address;
        let is_protected = address.ip().is_loopback() || self.tls.is_some() || !self.proxies.is_empty();
        (!is_protected).then(|| {
            format!(
                "{address} can be reached from other machines without TLS. Either listen on this machine only ({DEFAULT_ADDRESS}); or set `certificate` and \
                 `key` under [listen] (`fenetre tls self-signed` makes a pair for trials); or set `behind_proxy = true` and `proxies`, if a proxy \
                 brings TLS. In the last two cases callers need tokens: `fenetre token create NAME --grant admin --store DIR`"
            )
        })
    }
}

/// Parses an interval of 1 second to 1 hour, or `none`.
fn own_every(text: &str) -> Result<Option<Duration>, String> {
    if text == "none" {
        return Ok(None);
    }
    let span = Span::parse(text).map_err(|error| error.to_string())?;
    if span.months != 0 || span.days != 0 || !(SECOND..=3_600 * SECOND).contains(&span.nanos) {
        return Err(format!("`{text}` is not an interval for the metrics of the service: use 1s to 1h, or none"));
    }
    Ok(Some(Duration::from_nanos(span.nanos.unsigned_abs())))
}

/// A network, such as `192.0.2.0/24`, or one address.
///
/// # Errors
/// That it is none, in a sentence.
pub fn network(text: &str) -> Result<IpNet, String> {
    let parsed = text.parse::<IpNet>().ok().or_else(|| text.parse::<IpAddr>().ok().map(IpNet::from));
    parsed.ok_or_else(|| format!("`{text}` is not a network: write one such as 192.0.2.0/24, or an address"))
}

fn socket(text: &str) -> Result<SocketAddr, String> {
    let text = text.replace("localhost:", "127.0.0.1:");
    text.parse().map_err(|_| format!("`{text}` is not an address: write IP:PORT, such as {DEFAULT_ADDRESS}"))
}

/// Keys that had another name in earlier versions, by table.
const RENAMED: [(&str, &str, &str); 14] = [
    ("store", "open_partitions", "max_open_partitions"),
    ("limits", "body_bytes", "max_body_bytes"),
    ("limits", "unpacked_bytes", "max_decompressed_bytes"),
    ("limits", "all_bodies_bytes", "max_total_body_bytes"),
    ("limits", "import_bytes", "max_import_bytes"),
    ("limits", "ahead", "max_future"),
    ("limits", "bin_keeps", "bin_retention"),
    ("limits", "query_seconds", "max_query_seconds"),
    ("limits", "query_series", "max_series"),
    ("limits", "query_lines", "max_lines"),
    ("limits", "query_cells", "max_cells"),
    ("limits", "query_points", "max_points"),
    ("limits", "query_decoded", "max_decoded_points"),
    ("limits", "query_held", "max_held_values"),
];

/// The first key with an old name: where it is, that name and the new one.
fn renamed_key(text: &str) -> Option<(Range<usize>, &'static str, &'static str)> {
    let document = toml_edit::Document::parse(text).ok()?;
    RENAMED.iter().find_map(|(table, old, new)| {
        let (key, _) = document.get(table)?.as_table_like()?.get_key_value(old)?;
        Some((key.span()?, *old, *new))
    })
}

/// Line and column of a byte, both from 1.
fn place(text: &str, at: usize) -> (usize, usize) {
    let mut at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    let before = &text[..at];
    (before.matches('\n').count() + 1, before.rsplit('\n').next().unwrap_or_default().chars().count() + 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn five_lines_of_configuration_suffice_and_none_are_needed() {
        let config = Config::parse("[store]\npath = \"/var/lib/fenetre\"\n\n[listen]\naddress = \"[::1]:9000\"\n", "fenetre.toml").unwrap();
        assert_eq!(config.store, Path::new("/var/lib/fenetre"));
        assert_eq!(config.address.to_string(), "[::1]:9000");
        assert_eq!(Config::parse("", "fenetre.toml").unwrap().address.to_string(), DEFAULT_ADDRESS);
    }

    #[test]
    fn spans_and_sizes_of_limits_are_read() {
        let config = Config::parse("[limits]\nmax_future = \"90m\"\nbin_retention = \"2w\"\nmax_import_bytes = 1000\n", "x").unwrap();
        assert_eq!(
            (config.limits.max_future, config.limits.bin_retention, config.limits.max_import_bytes),
            (5_400 * SECOND, 14 * 86_400 * SECOND, 1_000)
        );
        let fault = Config::parse("[limits]\nmax_future = \"soon\"\n", "x").unwrap_err().to_string();
        assert!(fault.starts_with("x:2:14: `soon` is not a span"), "{fault}");
        assert!(Config::parse("[limits]\nmax_import_bytes = 0\n", "x").is_err());
    }

    #[test]
    fn an_old_key_is_refused_naming_the_new_one() {
        for (table, old, new) in RENAMED {
            let text = format!("[{table}]\n{old} = 1\n");
            assert_eq!(Config::parse(&text, "x").unwrap_err().to_string(), format!("x:2:1: `{old}` is called `{new}` now"));
        }
    }

    #[test]
    fn retention_is_read_by_scope() {
        let text = "[retention]\nkeep_for = \"400d\"\nreserve = \"5%\"\n[retention.datasets.velmar]\nkeep_under = \"20GB\"\n[retention.datasets.velmar.metrics.turbidity]\nkeep_for = \"2w\"\n";
        let options = Config::parse(text, "x").unwrap().store_options;
        assert_eq!(options.reserve.unwrap().to_string(), "5%");
        let span = |limits: LimitSettings| limits.keep_for.flatten().map(|span| span.to_string());
        let velmar = &options.retention.datasets["velmar"];
        assert_eq!(
            (span(options.retention.store), span(velmar.limits), span(velmar.metrics["turbidity"])),
            (Some("400d".into()), None, Some("2w".into()))
        );
    }

    #[test]
    fn errors_have_a_position() {
        let faults = [
            "[store]\npath = 3\n",
            "[stroe]\npath = \"x\"\n",
            "[listen]\naddress = \"0.0.0.0:7430\"\n",
            "[listen]\naddress = \"7430\"\n",
            "[listen]\ncertificate = \"a.pem\"\n",
            "[listen]\nkey = \"a.pem\"\n",
            "[listen]\nclient_ca = \"a.pem\"\n",
            "[listen]\nbehind_proxy = true\n",
            "[listen]\nbehind_proxy = true\nproxies = [\"nearby\"]\n",
            "[listen]\nproxies = [\"127.0.0.1\"]\n",
            "[access]\nloopback = \"ajar\"\n",
            "[access]\nchanges_keep = \"long\"\n",
            "[listen]\nport = 7430\n",
            "[listen\n",
            "[log]\nformat = \"xml\"\n",
            "[limits]\nmax_query_seconds = 0\nmax_body_bytes = 1\n",
            "[limits]\nmax_body_bytes = \"1MB\"\n",
            "[store]\ndurability = \"sometimes\"\n",
            "[store]\nmemory_mb = 0\n",
            "[retention]\nkeep_for = \"30 sheep\"\n",
            "[retention]\nreserve = \"95%\"\n",
            "[retention.datasets.velmar]\nkeep_under = \"20 apples\"\n",
            "[retention.datasets.velmar.metrics.level]\nkeep = \"1d\"\n",
        ];
        let messages: String = faults.iter().map(|text| format!("{}\n", Config::parse(text, "fenetre.toml").unwrap_err())).collect();
        insta::assert_snapshot!(messages);
    }
}
