//! Background work: one runtime for all of Fenetre.
//!
//! A job is a named thread. [`Jobs::repeat`] repeats a step: after each it continues, rests, or ends, as the step returns; after an error it
//! waits, each time twice as long, and tries again. [`Jobs::run`] runs something once. Its handle can wake it, stop it, and read
//! its figures; [`Jobs::end`] stops all of them in the order in which they began, and waits for them.
//!
//! A step should look at [`Job::is_stopping`] now and then, and rest with [`Job::rest`], which a stop or a wake ends.

mod durations;
mod figures;
mod job;

use std::{
    fmt,
    hash::{BuildHasher, Hasher, RandomState},
    io,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    thread,
    time::{Duration, Instant},
};

use parking_lot::Mutex;

pub use durations::{DurationCounts, Durations};
pub use figures::{Figures, Phase};
pub use job::{Handle, Job, Next};

/// How long a failed job waits before it tries again: at first, and at most.
#[derive(Clone, Copy, Debug)]
pub struct Backoff {
    /// After the first failure.
    pub first: Duration,
    /// The maximum.
    pub most: Duration,
}

impl Backoff {
    /// The wait after a number of failures in a row, from 1.
    pub fn after(self, failures: u32) -> Duration {
        self.first.saturating_mul(1 << failures.saturating_sub(1).min(20)).min(self.most)
    }
}

/// A wait, up to a quarter shorter or longer, so that jobs that failed together do not try again together.
fn spread(wait: Duration) -> Duration {
    // The keys of a new state are random.
    let random = RandomState::new().build_hasher().finish() as f64 / u64::MAX as f64;
    wait.mul_f64(0.75 + random / 2.0)
}

impl Default for Backoff {
    fn default() -> Self {
        Self { first: Duration::from_secs(10), most: Duration::from_secs(300) }
    }
}

/// The jobs of one owner.
#[derive(Default)]
pub struct Jobs {
    all: Mutex<Vec<Handle>>,
    is_stopping: Arc<AtomicBool>,
}

impl Jobs {
    /// Starts a job that repeats a step.
    ///
    /// # Errors
    /// If there can be no more threads.
    pub fn repeat<E: fmt::Display>(
        &self,
        name: &str,
        backoff: Backoff,
        mut step: impl FnMut(&Job) -> Result<Next, E> + Send + 'static,
    ) -> io::Result<Handle> {
        self.start(name, move |job| {
            while !job.is_stopping() {
                match job.measured(|| step(job)) {
                    Ok(Next::Again) => {}
                    Ok(Next::Rest(longest)) => job.rest(longest),
                    Ok(Next::End) => break,
                    Err(failures) => job.rest_after_failure(spread(backoff.after(failures))),
                }
            }
        })
    }

    /// Runs something once, as a job.
    ///
    /// # Errors
    /// If there can be no more threads.
    pub fn run<E: fmt::Display>(&self, name: &str, work: impl FnOnce(&Job) -> Result<(), E> + Send + 'static) -> io::Result<Handle> {
        self.start(name, move |job| {
            // The failure is in the log and in the figures.
            let _ = job.measured(|| work(job));
        })
    }

    fn start(&self, name: &str, work: impl FnOnce(&Job) + Send + 'static) -> io::Result<Handle> {
        let job = Job::new(name, Arc::clone(&self.is_stopping));
        let own = job.clone();
        let thread = thread::Builder::new().name(name.to_owned()).spawn(move || {
            work(&own);
            own.ended();
        })?;
        let handle = Handle::new(job, thread);
        let mut all = self.all.lock();
        all.retain(|known| !known.is_finished());
        all.push(handle.clone());
        Ok(handle)
    }

    /// Asks all jobs to stop soon. New ones stop at once.
    pub fn stop(&self) {
        self.is_stopping.store(true, Ordering::SeqCst);
        self.all.lock().iter().for_each(Handle::wake);
    }

    /// Whether all jobs were asked to stop.
    pub fn is_stopping(&self) -> bool {
        self.is_stopping.load(Ordering::SeqCst)
    }

    /// Stops all jobs, and waits until they have ended, in the order in which they began.
    pub fn end(&self) {
        self.stop();
        loop {
            // A job may have started another before it ended.
            let next = self.all.lock().first().cloned();
            let Some(handle) = next else { return };
            handle.join();
            self.all.lock().retain(|known| !known.is_same(&handle));
        }
    }

    /// The same, but waits no longer than this. Jobs that have not ended by then, because they wait for somebody else, are left to themselves.
    pub fn end_within(&self, patience: Duration) {
        self.stop();
        let end = Instant::now() + patience;
        while Instant::now() < end && self.all.lock().iter().any(|handle| !handle.is_finished()) {
            thread::sleep(Duration::from_millis(10));
        }
        self.all.lock().clear();
    }

    /// Figures of the jobs that run, in the order in which they began.
    pub fn figures(&self) -> Vec<Figures> {
        self.all.lock().iter().filter(|handle| !handle.is_finished()).map(Handle::figures).collect()
    }

    /// Wakes all jobs that rest.
    pub fn wake(&self) {
        self.all.lock().iter().for_each(Handle::wake);
    }
}

impl Drop for Jobs {
    fn drop(&mut self) {
        self.end();
    }
}
