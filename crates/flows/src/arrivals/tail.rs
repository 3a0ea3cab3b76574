//! The live tail: points as they arrive. A slow watcher misses some, and delays nothing.

use fenetre_wire::arrivals::TailReport;
use tokio::sync::broadcast::{Receiver, Sender, channel};

/// Batches that a slow watcher may be behind.
const BEHIND: usize = 64;

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

    /// Sends a report to all watchers.
    pub fn report(&self, report: TailReport) {
        // Without watchers, sending fails, which is fine.
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
