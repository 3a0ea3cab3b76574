//! A step of the work of a sink, whatever it sends.

use std::time::Duration;

use fenetre_jobs::{Job, Next};
use fenetre_store::Position;

use super::delivery::Delivery;
use crate::error::FlowError;

/// Longest wait for points, after which a stop is noticed.
const WAIT: Duration = Duration::from_millis(500);

/// The work of a sink.
pub trait Work: Send {
    /// Sends what can be sent; returns whether there was anything to do.
    ///
    /// # Errors
    /// If the destination accepts nothing at the moment, or the store cannot be read.
    fn work(&mut self, job: &Job) -> Result<bool, FlowError>;

    /// The way to the destination.
    fn delivery(&self) -> &Delivery;

    /// The position up to which the feed was read.
    fn read_to(&self) -> Position;

    /// Maximum time that a point waits for others.
    fn batch_after(&self) -> Duration;

    /// Works, or waits for points.
    ///
    /// # Errors
    /// As of [`Work::work`]. Call it again later.
    fn step(&mut self, job: &Job) -> Result<Next, FlowError> {
        let done = self.work(job);
        match &done {
            Err(FlowError::Stopped) => return Ok(Next::End),
            Err(error) => self.delivery().note_failure(error),
            Ok(_) => {}
        }
        self.delivery().measure()?;
        if !done? && !job.is_stopping() {
            self.delivery().store.feed().wait(self.read_to(), WAIT.min(self.batch_after()));
        }
        Ok(Next::Again)
    }
}
