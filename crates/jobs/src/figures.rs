//! State and figures of a job.

use std::time::{Duration, SystemTime};

/// What a job is doing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Phase {
    /// It works.
    Working,
    /// It waits for its next turn, or to be woken.
    Resting,
    /// It failed, and waits to try again.
    Retrying,
    /// It has ended.
    Ended,
}

/// Figures of a job.
#[derive(Clone, Debug)]
pub struct Figures {
    /// Its name.
    pub name: String,
    /// What it is doing.
    pub phase: Phase,
    /// Start of its current phase.
    pub since: SystemTime,
    /// Steps that were done.
    pub steps: u64,
    /// Time that they took in total.
    pub worked: Duration,
    /// Failures in a row.
    pub failures: u32,
    /// The last error, and when it came. It stays after a success.
    pub last_error: Option<(String, SystemTime)>,
    /// The time of its next turn, if it waits for one.
    pub next: Option<SystemTime>,
}

impl Figures {
    pub(crate) fn new(name: &str) -> Self {
        Self {
            name: name.to_owned(),
            phase: Phase::Resting,
            since: SystemTime::now(),
            steps: 0,
            worked: Duration::ZERO,
            failures: 0,
            last_error: None,
            next: None,
        }
    }

    pub(crate) fn enter(&mut self, phase: Phase, next: Option<Duration>) {
        (self.phase, self.since) = (phase, SystemTime::now());
        self.next = next.map(|wait| self.since + wait);
    }
}
