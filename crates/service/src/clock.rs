//! Checks the wall clock before anything expires. While the clock is implausible, expiry and bin cleanup are paused.

use std::{sync::LazyLock, time::Instant};

use fenetre_core::{
    keeping::{Clock, Leap},
    time::{Nanos, SECOND, format_utc},
};
use fenetre_store::{Document, DocumentKind, Store};
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};

use crate::problem::{ApiError, ProblemKind};

/// The wall clock, read here and nowhere below.
pub fn now() -> Nanos {
    // The range of an instant ends in 2262.
    Nanos::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or(Nanos::MAX)
}

/// Nanoseconds since the first call: for rates and waits, which a step of the wall clock must not stretch.
pub fn steady() -> Nanos {
    static BEGUN: LazyLock<Instant> = LazyLock::new(Instant::now);
    Nanos::try_from(BEGUN.elapsed().as_nanos()).unwrap_or(Nanos::MAX)
}

/// The last plausible wall time, in nanoseconds since 1970.
#[derive(Serialize, Deserialize)]
struct LastTime(Nanos);

impl Document for LastTime {
    const KIND: DocumentKind = DocumentKind::Clock;
}

/// The name of its document.
const NAME: &str = "last";
/// How often it is stored.
const NOTED: Nanos = 600 * SECOND;

/// Watches the wall clock.
pub struct ClockWatch(Mutex<Watched>);

struct Watched {
    clock: Clock,
    leap: Option<Leap>,
    noted: Nanos,
}

impl ClockWatch {
    /// Starts from the last plausible wall time.
    ///
    /// # Errors
    /// If the catalogue cannot be read, or the stored time is invalid.
    pub fn open(store: &Store) -> Result<Self, ApiError> {
        let last = store.documents().get::<LastTime>(NAME)?.map(|kept| kept.body.0);
        let watched = Watched { clock: Clock::since(last, now(), counted()), leap: None, noted: last.unwrap_or(Nanos::MIN) };
        Ok(Self(Mutex::new(watched)))
    }

    /// Looks at the clock; returns the leap while it lasts. The log has a line when it begins and when it ends.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn look(&self, store: &Store) -> Result<Option<Leap>, ApiError> {
        let wall = now();
        let mut watched = self.0.lock();
        let before = watched.leap;
        watched.leap = watched.clock.look(wall, counted()).err();
        match (before, watched.leap) {
            (None, Some(leap)) => tracing::warn!("{}", describe(leap)),
            (Some(_), None) => tracing::info!("the system clock is correct again; expiry resumes"),
            _ => {}
        }
        let leap = watched.leap;
        let is_due = leap.is_none() && wall.saturating_sub(watched.noted).saturating_abs() >= NOTED;
        if is_due {
            watched.noted = wall;
        }
        drop(watched);
        if is_due {
            store.documents().put(NAME, &LastTime(wall), wall)?;
        }
        Ok(leap)
    }

    /// A message about the leap found by the last look, if any.
    pub fn leap(&self) -> Option<String> {
        self.0.lock().leap.map(describe)
    }

    /// Returns an error while the clock is implausible.
    ///
    /// # Errors
    /// [`ProblemKind::Definition`], with what to do.
    pub fn check(&self, store: &Store) -> Result<(), ApiError> {
        self.look(store)?.map_or(Ok(()), |leap| Err(ApiError::new(ProblemKind::Definition, describe(leap))))
    }

    /// Accepts the clock as it is.
    pub fn accept(&self) {
        let mut watched = self.0.lock();
        watched.clock.accept(now(), counted());
        (watched.leap, watched.noted) = (None, Nanos::MIN);
    }
}

fn describe(leap: Leap) -> String {
    format!(
        "the system clock reads {}, but about {} was expected: expiry and bin cleanup are paused until it is correct. If it is correct, run `fenetre expire --accept-clock`",
        format_utc(leap.wall),
        format_utc(leap.expected)
    )
}

/// A monotonic clock that includes time asleep, in nanoseconds.
fn counted() -> Nanos {
    let read = rustix::time::clock_gettime(rustix::time::ClockId::Boottime);
    read.tv_sec.saturating_mul(SECOND).saturating_add(read.tv_nsec)
}
