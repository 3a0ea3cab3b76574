//! One job, as its thread and its handle see it.

use std::{
    fmt,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    thread::{JoinHandle, Thread},
    time::{Duration, Instant, SystemTime},
};

use parking_lot::{Condvar, Mutex};

use crate::figures::{Figures, Phase};

/// What a job does after a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Next {
    /// The next step at once: there is more to do.
    Again,
    /// Rest until it is woken, but no longer than this.
    Rest(Duration),
    /// End.
    End,
}

struct Shared {
    all_stop: Arc<AtomicBool>,
    own_stop: AtomicBool,
    is_woken: Mutex<bool>,
    bell: Condvar,
    figures: Mutex<Figures>,
}

/// A job, as its own thread sees it.
#[derive(Clone)]
pub struct Job(Arc<Shared>);

impl Job {
    pub(crate) fn new(name: &str, all_stop: Arc<AtomicBool>) -> Self {
        let figures = Mutex::new(Figures::new(name));
        Self(Arc::new(Shared { all_stop, own_stop: AtomicBool::new(false), is_woken: Mutex::new(false), bell: Condvar::new(), figures }))
    }

    /// Whether it should end soon.
    pub fn is_stopping(&self) -> bool {
        self.0.all_stop.load(Ordering::SeqCst) || self.0.own_stop.load(Ordering::SeqCst)
    }

    /// Rests until it is woken or asked to stop, but no longer than this.
    pub fn rest(&self, longest: Duration) {
        self.0.figures.lock().enter(Phase::Resting, Some(longest));
        self.wait(longest);
    }

    /// Notes that it waits for something other than time.
    pub fn waits(&self) {
        self.0.figures.lock().enter(Phase::Resting, None);
    }

    pub(crate) fn rest_after_failure(&self, wait: Duration) {
        self.0.figures.lock().enter(Phase::Retrying, Some(wait));
        self.wait(wait);
    }

    fn wait(&self, longest: Duration) {
        let end = Instant::now() + longest;
        let mut is_woken = self.0.is_woken.lock();
        while !*is_woken && !self.is_stopping() && !self.0.bell.wait_until(&mut is_woken, end).timed_out() {}
        *is_woken = false;
    }

    /// Runs work as a step of the figures.
    ///
    /// # Errors
    /// The number of failures in a row, after the error was logged and noted.
    pub fn measured<T, E: fmt::Display>(&self, work: impl FnOnce() -> Result<T, E>) -> Result<T, u32> {
        self.0.figures.lock().enter(Phase::Working, None);
        let began = Instant::now();
        let done = work();
        let mut figures = self.0.figures.lock();
        figures.worked += began.elapsed();
        match done {
            Ok(done) => {
                (figures.steps, figures.failures) = (figures.steps + 1, 0);
                Ok(done)
            }
            Err(error) => {
                figures.failures = figures.failures.saturating_add(1);
                figures.last_error = Some((error.to_string(), SystemTime::now()));
                tracing::error!(job = figures.name, failures = figures.failures, %error, "a job failed");
                Err(figures.failures)
            }
        }
    }

    pub(crate) fn ended(&self) {
        self.0.figures.lock().enter(Phase::Ended, None);
    }
}

/// A job, as others see it.
#[derive(Clone)]
pub struct Handle {
    job: Job,
    thread: Thread,
    joining: Arc<Mutex<Option<JoinHandle<()>>>>,
}

impl Handle {
    pub(crate) fn new(job: Job, thread: JoinHandle<()>) -> Self {
        Self { job, thread: thread.thread().clone(), joining: Arc::new(Mutex::new(Some(thread))) }
    }

    /// Ends its rest.
    pub fn wake(&self) {
        *self.job.0.is_woken.lock() = true;
        self.job.0.bell.notify_all();
        // Work may rest by parking the thread.
        self.thread.unpark();
    }

    /// Asks it to stop soon.
    pub fn stop(&self) {
        self.job.0.own_stop.store(true, Ordering::SeqCst);
        self.wake();
    }

    /// Whether it has ended.
    pub fn is_finished(&self) -> bool {
        self.job.0.figures.lock().phase == Phase::Ended || self.joining.lock().as_ref().is_none_or(JoinHandle::is_finished)
    }

    /// Waits until it has ended. Its own thread does not wait.
    pub fn join(&self) {
        if std::thread::current().id() == self.thread.id() {
            return;
        }
        let thread = self.joining.lock().take();
        // A panic of the thread was printed when it came.
        let _ = thread.map(JoinHandle::join);
    }

    /// Its figures.
    pub fn figures(&self) -> Figures {
        self.job.0.figures.lock().clone()
    }

    pub(crate) fn is_same(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.job.0, &other.job.0)
    }
}
