//! What became of the rows of a body.

use fenetre_core::model::Refusal;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How many rejects are told in full; the rest are counted.
pub const TOLD_REJECTS: usize = 100;

/// A row, or a value of one, that was not taken.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Reject {
    /// Line of the body, from 1.
    pub line: u64,
    /// The column of a table or the field of an object that is at fault.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub field: Option<String>,
    /// What is wrong, and what to do.
    pub reason: String,
}

/// Counts of a body, with the first rejects.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Tally {
    /// Points that were taken.
    pub accepted: u64,
    /// Points, or rows that could not be read as points, that were not.
    pub rejected: u64,
    /// Empty cells of value columns, which give no point.
    #[serde(default)]
    pub empty_cells: u64,
    /// The first 100 rejects.
    pub rejects: Vec<Reject>,
    /// What else the sender should know.
    #[serde(default)]
    pub notes: Vec<String>,
}

impl Tally {
    /// Counts a point by whether the sink took it. Only of a reject is the line asked for.
    pub fn count(&mut self, line: impl FnOnce() -> u64, taken: Result<(), Refusal>) {
        match taken {
            Ok(()) => self.accepted += 1,
            Err(refusal) => self.reject(line(), refusal.field, refusal.reason),
        }
    }

    /// Counts a row that could not be read.
    pub fn reject(&mut self, line: u64, field: Option<String>, reason: impl Into<String>) {
        self.rejected += 1;
        if self.rejects.len() < TOLD_REJECTS {
            self.rejects.push(Reject { line, field, reason: reason.into() });
        }
    }

    /// Adds the counts of a later part of the same input.
    pub fn absorb(&mut self, later: Self) {
        self.accepted += later.accepted;
        self.rejected += later.rejected;
        self.empty_cells += later.empty_cells;
        let room = TOLD_REJECTS.saturating_sub(self.rejects.len());
        self.rejects.extend(later.rejects.into_iter().take(room));
        for note in later.notes {
            if !self.notes.contains(&note) {
                self.notes.push(note);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_reject_is_counted_and_the_first_are_told() {
        let mut tally = Tally::default();
        (0..80).for_each(|line| tally.reject(line, None, "no"));
        let mut whole = tally.clone();
        whole.absorb(tally);
        assert_eq!((whole.rejected, whole.rejects.len()), (160, TOLD_REJECTS));
    }
}
