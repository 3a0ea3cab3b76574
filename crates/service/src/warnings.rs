//! Limits that are nearly reached: told in the log once, when that begins.

use std::collections::BTreeSet;

use parking_lot::Mutex;

use crate::{api::retention, problem::Problem, state::State};

/// What was told already.
#[derive(Default)]
pub struct Warnings {
    told: Mutex<BTreeSet<String>>,
}

impl Warnings {
    /// Tells what is new.
    pub fn look(&self, state: &State) -> Result<(), Problem> {
        let now: BTreeSet<String> = retention::warnings_now(state)?.into_iter().collect();
        let mut told = self.told.lock();
        // Percentages grow: a limit is told once, whatever is left of it.
        let subject = |text: &String| text.split(" takes ").next().unwrap_or_default().to_owned();
        let known: BTreeSet<String> = told.iter().map(subject).collect();
        now.iter().filter(|text| !known.contains(&subject(text))).for_each(|text| tracing::warn!("{text}"));
        *told = now;
        Ok(())
    }
}
