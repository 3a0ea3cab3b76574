//! Connections to partitions: opened when they are needed, kept for a while, closed when idle, and never more than a bound.

use std::{
    sync::atomic::{AtomicU64, AtomicUsize, Ordering},
    time::{Duration, Instant},
};

use parking_lot::Mutex;
use rusqlite::Connection;

use crate::error::StoreError;

/// A connection that nobody used for so long is closed.
const IDLE: Duration = Duration::from_secs(60);

/// Idle connections to partition files.
pub struct Pool {
    idle: Mutex<Vec<Idle>>,
    most: usize,
    /// Blocks that all partitions together hold in their indices.
    indexed: AtomicUsize,
    ids: AtomicU64,
}

/// The most blocks in all indices, of about 150 bytes each.
const MAX_INDEXED: usize = 300_000;

struct Idle {
    partition: u64,
    since: Instant,
    connection: Connection,
}

impl Pool {
    /// Keeps at most so many idle connections, of three open files each. Those in use are as many as there are threads that read or write.
    pub fn new(most: usize) -> Self {
        Self { idle: Mutex::default(), most, indexed: AtomicUsize::new(0), ids: AtomicU64::new(0) }
    }

    /// A number that tells a file from all others whose connections are kept here.
    pub fn next_id(&self) -> u64 {
        self.ids.fetch_add(1, Ordering::Relaxed)
    }

    /// Runs work with a connection to a partition, which has its own number. It is opened if no connection is idle.
    pub fn with<T>(
        &self,
        partition: u64,
        open: impl FnOnce() -> Result<Connection, StoreError>,
        work: impl FnOnce(&mut Connection) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        let kept = {
            let mut idle = self.idle.lock();
            let last = idle.iter().rposition(|one| one.partition == partition);
            last.map(|place| idle.remove(place).connection)
        };
        let mut connection = match kept {
            Some(connection) => connection,
            None => open()?,
        };
        let done = work(&mut connection)?;
        // After a failure the connection may be within a transaction: it is closed instead.
        let closed = {
            let mut idle = self.idle.lock();
            idle.push(Idle { partition, since: Instant::now(), connection });
            (idle.len() > self.most).then(|| idle.remove(0))
        };
        drop(closed);
        Ok(done)
    }

    /// Whether there is room for so many more blocks in an index.
    pub fn may_index(&self, more: usize) -> bool {
        self.indexed.load(Ordering::Relaxed) + more <= MAX_INDEXED
    }

    /// Counts blocks that an index holds now.
    pub fn note_indexed(&self, more: usize) {
        self.indexed.fetch_add(more, Ordering::Relaxed);
    }

    /// Counts blocks that an index let go.
    pub fn forget_indexed(&self, fewer: usize) {
        self.indexed.fetch_sub(fewer, Ordering::Relaxed);
    }

    /// Closes the idle connections to a partition.
    pub fn forget(&self, partition: u64) {
        let old: Vec<Idle> = self.idle.lock().extract_if(.., |one| one.partition == partition).collect();
        drop(old);
    }

    /// Closes what nobody used for a while.
    pub fn close_idle(&self) {
        let old: Vec<Idle> = {
            let mut idle = self.idle.lock();
            let end = idle.partition_point(|one| one.since.elapsed() >= IDLE);
            idle.drain(..end).collect()
        };
        drop(old);
    }

    /// How many are kept.
    #[cfg(test)]
    pub fn len(&self) -> usize {
        self.idle.lock().len()
    }
}

#[cfg(test)]
mod tests {
    use std::cell::Cell;

    use super::*;
    use crate::disk::sqlite::{self, Use};

    #[test]
    fn the_number_of_open_files_is_bounded() {
        let folder = tempfile::tempdir().unwrap();
        let (pool, opened) = (Pool::new(3), Cell::new(0));
        for partition in 0..10 {
            let open = || {
                opened.set(opened.get() + 1);
                sqlite::open(&folder.path().join(format!("{partition}.db")), Use::Records)
            };
            for _ in 0..2 {
                pool.with(partition, open, |_| Ok(())).unwrap();
            }
            assert!(pool.len() <= 3);
        }
        assert_eq!(opened.get(), 10, "the second time each was still open");
        assert_eq!(pool.len(), 3);
        pool.close_idle();
        assert_eq!(pool.len(), 3, "none was idle for long");
    }
}
