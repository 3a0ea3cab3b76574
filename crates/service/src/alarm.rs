//! A call for work before its time.

use std::time::Duration;

use parking_lot::{Condvar, Mutex};

/// Ends the rest of the thread before its time.
#[derive(Default)]
pub struct Alarm {
    is_due: Mutex<bool>,
    rung: Condvar,
}

impl Alarm {
    /// Somebody changed what it looks at.
    pub fn ring(&self) {
        *self.is_due.lock() = true;
        self.rung.notify_all();
    }

    /// Waits for a call, or for the longest time.
    pub fn wait(&self, longest: Duration) {
        let mut is_due = self.is_due.lock();
        if !*is_due {
            self.rung.wait_for(&mut is_due, longest);
        }
        *is_due = false;
    }
}
