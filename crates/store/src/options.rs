//! Limits and durability of a store.

use std::{collections::BTreeMap, fmt, str::FromStr, time::Duration};

use fenetre_core::{
    block::BLOCK_POINTS,
    keeping::{LimitSettings, Reserve},
};

const MANY_POINTS: usize = 1_000_000;

/// When a batch counts as kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Durability {
    /// Each batch is on stable storage before it is acknowledged.
    #[default]
    Each,
    /// A batch is acknowledged once the operating system has it, which outlives the service but not the machine; all of them are brought
    /// to stable storage at this interval.
    Interval(Duration),
}

impl fmt::Display for Durability {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Each => f.write_str("each"),
            Self::Interval(every) if every.subsec_millis() == 0 => write!(f, "interval {}s", every.as_secs()),
            Self::Interval(every) => write!(f, "interval {}ms", every.as_millis()),
        }
    }
}

impl FromStr for Durability {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let fault = || format!("invalid durability `{text}`: use \"each\", or \"interval 100ms\" with a time from 1ms to 60s");
        if text == "each" {
            return Ok(Self::Each);
        }
        let every = text.strip_prefix("interval ").ok_or_else(fault)?;
        let every = match (every.strip_suffix("ms"), every.strip_suffix('s')) {
            (Some(milliseconds), _) => milliseconds.parse().ok().map(Duration::from_millis),
            (None, Some(seconds)) => seconds.parse().ok().map(Duration::from_secs),
            (None, None) => None,
        };
        every.filter(|every| (1..=60_000).contains(&every.as_millis())).map(Self::Interval).ok_or_else(fault)
    }
}

/// What the configuration file says of keeping.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct FileRetention {
    /// Of the whole store.
    pub store: LimitSettings,
    /// Of datasets, by name.
    pub datasets: BTreeMap<String, FileDataset>,
}

/// What the configuration file says of a dataset.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct FileDataset {
    /// Of all of it.
    pub limits: LimitSettings,
    /// Of metrics, by name.
    pub metrics: BTreeMap<String, LimitSettings>,
}

/// What a store may take and how it keeps its promises.
#[derive(Clone, Debug)]
pub struct Options {
    /// When a batch counts as kept.
    pub durability: Durability,
    /// Bytes of memory for points that wait to be packed. A quarter of it full, points are packed; three quarters of it full, batches are
    /// refused until some are packed: the last quarter is for packing itself.
    pub memory: usize,
    /// So many points are packed in any case.
    pub pack_points: usize,
    /// Points are packed after so long at the latest.
    pub pack_after: Duration,
    /// A partition into which nothing was packed for so long is compacted.
    pub compact_after: Duration,
    /// The most days that a partition holds, for points that are few: 3,584, 448, 56 or 7.
    pub longest_span_days: i64,
    /// Idle connections to partitions, of three open files each.
    pub max_open_partitions: usize,
    /// How long and how much is kept, as the configuration file says.
    pub retention: FileRetention,
    /// Maximum size of the journal files that are held for readers of the feed, in bytes.
    pub hold_bytes: u64,
    /// Free space of the volume that is never taken; by default a twentieth of it, at most 2 GB.
    pub reserve: Option<Reserve>,
}

impl Default for Options {
    fn default() -> Self {
        Self {
            durability: Durability::Each,
            memory: 512 << 20,
            pack_points: usize::MAX,
            pack_after: Duration::from_secs(3_600),
            compact_after: Duration::from_secs(60),
            longest_span_days: 3_584,
            max_open_partitions: 300,
            retention: FileRetention::default(),
            hold_bytes: 1_000_000_000,
            reserve: None,
        }
    }
}

impl Options {
    /// Bytes that stay free on a volume of `total` bytes.
    pub(crate) fn reserve_bytes(&self, total: u64) -> u64 {
        self.reserve.map_or_else(|| Reserve::default_bytes(total), |reserve| reserve.bytes(total))
    }

    /// Whether so many points, of so many bytes, are enough to be packed. A million are where they make full blocks; where they would make
    /// many small ones, since they are of very many series or of all times, more are waited for.
    pub(crate) fn is_enough_to_pack(&self, points: usize, bytes: usize, points_a_piece: usize) -> bool {
        let makes_full_blocks = points >= MANY_POINTS && points_a_piece >= BLOCK_POINTS / 4;
        points >= self.pack_points || bytes >= self.memory / 4 || makes_full_blocks
    }

    /// Bytes of points from which on batches are refused.
    pub(crate) fn most_bytes(&self) -> usize {
        self.memory / 4 * 3
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn points_are_packed_when_they_make_full_blocks_or_memory_asks() {
        let options = Options::default();
        assert!(options.is_enough_to_pack(1_000_000, 16 << 20, 1_000));
        assert!(!options.is_enough_to_pack(999_999, 16 << 20, 1_000));
        assert!(!options.is_enough_to_pack(4_000_000, 64 << 20, 20));
        assert!(options.is_enough_to_pack(4_000_000, 128 << 20, 20));
        assert!(Options { pack_points: 10, ..options }.is_enough_to_pack(10, 160, 1));
    }

    #[test]
    fn durability_round_trips() {
        for text in ["each", "interval 100ms", "interval 2s", "interval 1ms"] {
            assert_eq!(text.parse::<Durability>().unwrap().to_string(), text);
        }
        for text in ["", "none", "interval", "interval 0ms", "interval 100", "interval 61s", "interval -1s"] {
            assert!(text.parse::<Durability>().unwrap_err().contains("invalid durability"), "{text}");
        }
    }
}
