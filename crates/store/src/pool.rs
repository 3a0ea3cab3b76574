//! Connections to partitions: opened when they are needed, kept for a while, closed when idle, and never more than a bound.

use std::time::{Duration, Instant};

use parking_lot::Mutex;
use rusqlite::Connection;

use crate::{error::StoreError, partition::Partition};

/// A connection that nobody used for so long is closed.
const IDLE: Duration = Duration::from_secs(60);

/// Idle connections to partition files.
pub struct Pool {
    idle: Mutex<Vec<Idle>>,
    most: usize,
}

struct Idle {
    partition: u64,
    since: Instant,
    connection: Connection,
}

impl Pool {
    /// Keeps at most so many idle connections, of three open files each. Those in use are as many as there are threads that read or write.
    pub fn new(most: usize) -> Self {
        Self { idle: Mutex::default(), most }
    }

    /// Runs some work with a connection to a partition.
    pub fn with<T>(&self, partition: &Partition, work: impl FnOnce(&mut Connection) -> Result<T, StoreError>) -> Result<T, StoreError> {
        let kept = {
            let mut idle = self.idle.lock();
            let last = idle.iter().rposition(|one| one.partition == partition.id());
            last.map(|place| idle.remove(place).connection)
        };
        let mut connection = match kept {
            Some(connection) => connection,
            None => partition.open()?,
        };
        let done = work(&mut connection)?;
        // After a failure the connection may be within a transaction: it is closed instead.
        let closed = {
            let mut idle = self.idle.lock();
            idle.push(Idle { partition: partition.id(), since: Instant::now(), connection });
            (idle.len() > self.most).then(|| idle.remove(0))
        };
        drop(closed);
        Ok(done)
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
    use std::sync::Arc;

    use fenetre_core::time::SECOND;

    use super::*;
    use crate::span::Span;

    #[test]
    fn the_number_of_open_files_is_bounded() {
        let folder = tempfile::tempdir().unwrap();
        let pool = Arc::new(Pool::new(3));
        for week in 0..10 {
            let span = Span::week_of(week * 7 * 86_400 * SECOND);
            let partition = Partition::new(span, folder.path().join(span.file_name()), 4_096, Arc::clone(&pool));
            for _ in 0..2 {
                partition.writer().write(false, |_| Ok(())).unwrap();
            }
            assert!(pool.len() <= 3);
        }
        assert_eq!(pool.len(), 3);
        pool.close_idle();
        assert_eq!(pool.len(), 3, "none was idle for long");
    }
}
