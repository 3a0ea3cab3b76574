//! The log of a source: its last events, with repeated ones folded into one with a count.

use std::collections::VecDeque;

use fenetre_core::time::Nanos;
use parking_lot::Mutex;

/// Events that are kept.
const MAX_EVENTS: usize = 1_000;

/// Something that happened.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Event {
    /// When it happened first.
    pub first: Nanos,
    /// When it happened last.
    pub last: Nanos,
    /// How often, in a row.
    pub count: u64,
    /// Whether it is a failure.
    pub is_failure: bool,
    /// What happened, in a sentence.
    pub text: String,
}

/// A log of events.
#[derive(Default)]
pub struct Events(Mutex<VecDeque<Event>>);

impl Events {
    /// Adds an event. One that is the same as the latest adds to its count.
    pub fn add(&self, now: Nanos, is_failure: bool, text: impl Into<String>) {
        let (mut events, text) = (self.0.lock(), text.into());
        match events.back_mut() {
            Some(latest) if latest.text == text => {
                latest.count += 1;
                latest.last = now;
            }
            _ => {
                if events.len() == MAX_EVENTS {
                    events.pop_front();
                }
                events.push_back(Event { first: now, last: now, count: 1, is_failure, text });
            }
        }
    }

    /// The events, the latest first.
    pub fn latest(&self, most: usize) -> Vec<Event> {
        self.0.lock().iter().rev().take(most).cloned().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn repeated_events_are_folded_and_old_ones_are_forgotten() {
        let events = Events::default();
        for at in 0..5 {
            events.add(at, true, "nothing listens there");
        }
        events.add(5, false, "started");
        let found = events.latest(10);
        assert_eq!((found.len(), found[1].count, found[1].first, found[1].last), (2, 5, 0, 4));
        for at in 0..2_000 {
            events.add(at, false, format!("event {at}"));
        }
        assert_eq!((events.latest(usize::MAX).len(), events.latest(1)[0].text.as_str()), (MAX_EVENTS, "event 1999"));
    }
}
