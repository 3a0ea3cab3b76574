//! Refused calls on their way into the record of changes: few enough that nobody can fill a disk with them, and written by a job, so that no call waits.

use std::{collections::HashMap, net::IpAddr};

use fenetre_access::change::{Act, Change, Subject, Who};
use fenetre_core::time::{Nanos, SECOND};
use parking_lot::Mutex;
use serde_json::json;

/// From one address, a refusal of one sort is recorded once in this time, with how many there were.
const ONCE_IN: Nanos = 60 * SECOND;
/// Addresses that are counted apart.
const MAX_ADDRESSES: usize = 1_000;

/// Refusals that were not recorded yet.
#[derive(Default)]
pub struct Refusals(Mutex<Waiting>);

#[derive(Default)]
struct Waiting {
    counted: HashMap<(Option<IpAddr>, u16), Counted>,
    ready: Vec<Change>,
}

struct Counted {
    since: Nanos,
    more: u64,
}

impl Refusals {
    /// Notes a refusal with its status and reason.
    pub fn note(&self, who: Who, address: Option<IpAddr>, status: u16, call: &str, reason: &str, now: Nanos) {
        let mut waiting = self.0.lock();
        let key = (address, status);
        if let Some(counted) = waiting.counted.get_mut(&key) {
            if (now - counted.since).abs() < ONCE_IN {
                counted.more += 1;
                return;
            }
        } else if waiting.counted.len() >= MAX_ADDRESSES {
            waiting.counted.retain(|_, counted| (now - counted.since).abs() < ONCE_IN);
            if waiting.counted.len() >= MAX_ADDRESSES {
                return;
            }
        }
        let before = waiting.counted.insert(key, Counted { since: now, more: 0 }).map_or(0, |counted| counted.more);
        let after = json!({ "status": status, "reason": reason, "more_before": before });
        let (subject, act, dataset) = (Subject::Call, Act::Refused, None);
        waiting.ready.push(Change { at: now, who, address, subject, act, dataset, object: call.to_owned(), before: None, after: Some(after) });
    }

    /// Takes the refusals that are ready to be recorded.
    pub fn take(&self) -> Vec<Change> {
        std::mem::take(&mut self.0.lock().ready)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flood_of_refusals_leaves_few_rows() {
        let refusals = Refusals::default();
        let address: IpAddr = "192.0.2.7".parse().unwrap();
        for second in 0..90 {
            refusals.note(Who::Nobody, Some(address), 401, "GET /api/v1/datasets", "no token", second * SECOND);
        }
        let rows = refusals.take();
        assert_eq!(rows.len(), 2);
        assert_eq!((&rows[1].after.as_ref().unwrap()["more_before"], refusals.take().len()), (&json!(59), 0));
        for last in 0..10_000_u32 {
            refusals.note(Who::Nobody, Some(IpAddr::from(last.to_be_bytes())), 401, "GET /", "no token", 91 * SECOND);
        }
        assert!(refusals.take().len() <= MAX_ADDRESSES);
    }
}
