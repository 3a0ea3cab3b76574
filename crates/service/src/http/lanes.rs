//! Lanes: calls of one sort wait for calls of that sort only. Each lane has a bound on calls that run and on calls that wait. Health checks wait in none.
//!
//! A query starts as a quick query. If it exceeds the bounds for quick queries, it is stopped and restarted as a long query, on other threads. The next time it
//! starts as a long query. So short queries never wait for long ones.

use std::{
    collections::VecDeque,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};

use fenetre_jobs::Durations;
use parking_lot::Mutex;
use rayon::{ThreadPool, ThreadPoolBuildError, ThreadPoolBuilder};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use crate::problem::{ApiError, ProblemKind};

/// Size in bytes above which a body is large.
pub const LARGE_BODY: usize = 64 << 10;
/// Longest wait of calls without a time limit of their own.
pub const MAX_WAIT: Duration = Duration::from_secs(30);

/// The lanes of a service.
pub struct Lanes {
    /// Small bodies of points.
    pub pushes: Lane,
    /// Large bodies of points.
    pub large_pushes: Lane,
    /// Queries that end soon.
    pub queries: Lane,
    /// Queries that take longer.
    pub long_queries: Lane,
    /// Definitions, lists and other small calls.
    pub records: Lane,
    /// Calls that read many files: storage, verify, compaction, previews of limits.
    pub long_calls: Lane,
    /// Threads for quick queries.
    pub quick: ThreadPool,
    /// Threads for long ones.
    pub long: ThreadPool,
    /// Durations of quick queries, including the time in queues.
    pub quick_times: Durations,
    /// Durations of long queries, likewise.
    pub long_times: Durations,
    /// Hashes of queries that were long the last time they were asked.
    known_long: Mutex<VecDeque<u64>>,
}

/// Long queries that are remembered.
const REMEMBERED: usize = 1_024;

impl Lanes {
    /// Lanes for a number of cores.
    ///
    /// # Errors
    /// If threads cannot be started.
    pub fn new(cores: usize) -> Result<Self, ThreadPoolBuildError> {
        let pool = |name: &'static str| ThreadPoolBuilder::new().num_threads(cores).thread_name(move |at| format!("{name}-{at}")).build();
        Ok(Self {
            pushes: Lane::new("pushes", 2 * cores, 256),
            large_pushes: Lane::new("large pushes", cores, 64),
            queries: Lane::new("queries", 2 * cores, 256),
            long_queries: Lane::new("long queries", cores, 64),
            records: Lane::new("calls", 2 * cores, 256),
            long_calls: Lane::new("calls that look at many files", cores, 32),
            quick: pool("quick")?,
            long: pool("long")?,
            quick_times: Durations::default(),
            long_times: Durations::default(),
            known_long: Mutex::default(),
        })
    }

    /// Whether a query, given its hash, was long the last time it was asked.
    pub fn is_known_long(&self, query: u64) -> bool {
        self.known_long.lock().contains(&query)
    }

    /// Remembers whether a query was long.
    pub fn remember(&self, query: u64, is_long: bool) {
        let mut known = self.known_long.lock();
        known.retain(|other| *other != query);
        if is_long {
            known.push_back(query);
            if known.len() > REMEMBERED {
                known.pop_front();
            }
        }
    }

    /// Number of waiting calls in each lane.
    pub fn waiting(&self) -> [(&'static str, usize); 6] {
        [
            ("pushes", &self.pushes),
            ("large_pushes", &self.large_pushes),
            ("queries", &self.queries),
            ("long_queries", &self.long_queries),
            ("records", &self.records),
            ("long_calls", &self.long_calls),
        ]
        .map(|(name, lane)| (name, lane.waiting.load(Ordering::Relaxed)))
    }

    /// The lane of a body of points.
    pub fn of_body(&self, bytes: usize) -> &Lane {
        if bytes > LARGE_BODY { &self.large_pushes } else { &self.pushes }
    }
}

/// One lane.
pub struct Lane {
    of: &'static str,
    free: Arc<Semaphore>,
    waiting: AtomicUsize,
    most_waiting: usize,
}

/// A turn in a lane, which ends when it is dropped.
pub type Turn = OwnedSemaphorePermit;

impl Lane {
    fn new(of: &'static str, width: usize, most_waiting: usize) -> Self {
        Self { of, free: Arc::new(Semaphore::new(width)), waiting: AtomicUsize::new(0), most_waiting }
    }

    /// Waits for a turn until an instant.
    ///
    /// # Errors
    /// [`ProblemKind::Busy`] if too many wait already, or the instant has come.
    pub async fn enter(&self, until: Instant) -> Result<Turn, ApiError> {
        if let Ok(turn) = Arc::clone(&self.free).try_acquire_owned() {
            return Ok(turn);
        }
        let Some(_place) = Place::take(self) else {
            return Err(self.refuse(&format!("{} {} are already waiting", self.most_waiting, self.of)));
        };
        match tokio::time::timeout_at(until.into(), Arc::clone(&self.free).acquire_owned()).await {
            Ok(turn) => turn.map_err(|error| ApiError::internal(&error)),
            Err(_) => Err(self.refuse(&format!("the time limit passed while waiting for other {}", self.of))),
        }
    }

    fn refuse(&self, why: &str) -> ApiError {
        ApiError::new(ProblemKind::Busy, format!("the service is overloaded: {why}. Nothing was done; try again in a moment"))
    }
}

/// A place among those who wait.
struct Place<'l>(&'l Lane);

impl<'l> Place<'l> {
    fn take(lane: &'l Lane) -> Option<Self> {
        let more = |waiting: usize| (waiting < lane.most_waiting).then_some(waiting + 1);
        lane.waiting.fetch_update(Ordering::AcqRel, Ordering::Acquire, more).ok().map(|_| Self(lane))
    }
}

impl Drop for Place<'_> {
    fn drop(&mut self) {
        self.0.waiting.fetch_sub(1, Ordering::AcqRel);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn soon() -> Instant {
        Instant::now() + Duration::from_millis(20)
    }

    #[actix_web::test]
    async fn a_lane_takes_so_many_and_lets_so_many_wait() {
        let lane = Lane::new("queries", 1, 1);
        let turn = lane.enter(soon()).await.unwrap();
        let message = lane.enter(soon()).await.unwrap_err();
        assert_eq!((message.status, message.detail.contains("the time limit passed while waiting for other queries")), (503, true), "{message}");
        let waits = lane.enter(Instant::now() + MAX_WAIT);
        tokio::pin!(waits);
        assert!(futures_util::poll!(&mut waits).is_pending());
        let message = lane.enter(Instant::now() + MAX_WAIT).await.unwrap_err();
        assert!(message.detail.contains("1 queries are already waiting"), "{message}");
        drop(turn);
        // The next in the queue runs, and frees its place there.
        let turn = waits.await.unwrap();
        assert!(lane.enter(soon()).await.is_err());
        drop(turn);
        assert!(lane.enter(soon()).await.is_ok());
    }

    #[actix_web::test]
    async fn whoever_leaves_while_waiting_leaves_a_place() {
        let lane = Lane::new("pushes", 1, 1);
        let _turn = lane.enter(soon()).await.unwrap();
        for _ in 0..3 {
            let waits = lane.enter(Instant::now() + MAX_WAIT);
            tokio::pin!(waits);
            assert!(futures_util::poll!(&mut waits).is_pending());
        }
    }

    #[test]
    fn slow_queries_are_remembered_until_fast_or_displaced() {
        let lanes = Lanes::new(1).unwrap();
        lanes.remember(1, true);
        assert!(lanes.is_known_long(1) && !lanes.is_known_long(2));
        lanes.remember(1, false);
        assert!(!lanes.is_known_long(1));
        (0..=REMEMBERED as u64).for_each(|query| lanes.remember(query, true));
        assert!(!lanes.is_known_long(0) && lanes.is_known_long(1) && lanes.is_known_long(REMEMBERED as u64));
    }
}
