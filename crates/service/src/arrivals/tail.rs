//! The live tail: a look at what arrives, for whoever watches. Nobody waits for a watcher; one that is slow misses some.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use tokio::sync::broadcast::{Receiver, Sender, channel};
use utoipa::ToSchema;

/// Batches that a slow watcher may be behind.
const BEHIND: usize = 64;

/// A batch that arrived, with its first points.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TailReport {
    /// The dataset.
    pub dataset: String,
    /// When.
    pub time: String,
    /// Accepted points.
    pub accepted: u64,
    /// Rejected points and rows.
    pub rejected: u64,
    /// The first of them.
    pub points: Vec<TailPoint>,
}

/// A point that arrived.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TailPoint {
    /// Its metric.
    pub metric: String,
    /// Its tags.
    pub tags: BTreeMap<String, String>,
    /// Its instant.
    pub time: String,
    /// A number or a text.
    pub value: serde_json::Value,
}

/// Who watches. Nothing in place of a batch says that the service ends.
pub struct Tail(Sender<Option<TailReport>>);

impl Default for Tail {
    fn default() -> Self {
        Self(channel(BEHIND).0)
    }
}

impl Tail {
    /// Whether anybody does.
    pub fn is_watched(&self) -> bool {
        self.0.receiver_count() > 0
    }

    /// Tells all who do.
    pub fn tell(&self, report: TailReport) {
        // Nobody may be left by now.
        let _ = self.0.send(Some(report));
    }

    /// Ends all live tails, because an open tail would delay the shutdown.
    pub fn end(&self) {
        // Nobody may be there, likewise.
        let _ = self.0.send(None);
    }

    /// Begins to watch.
    pub fn watch(&self) -> Receiver<Option<TailReport>> {
        self.0.subscribe()
    }
}
