//! Counts, rejects and notes of a body.

use std::collections::BTreeMap;

use fenetre_core::model::{Cause, Refusal};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How many rejects are reported in full; the others are counted.
pub const MAX_REJECTS_SHOWN: usize = 100;

/// A rejected row, or value of a row.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Reject {
    /// Line of the body, from 1.
    pub line: u64,
    /// Index of the element, from 0, if the body is a JSON array.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub index: Option<u64>,
    /// The column of a table or the field of an object that is at fault.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub field: Option<String>,
    /// What is wrong, and what to do.
    pub reason: String,
    /// Code of the reason.
    #[serde(default)]
    #[schema(required)]
    pub cause: Cause,
}

impl Reject {
    /// Where it is: `line 3, element 2, value`.
    pub fn place(&self) -> String {
        let index = self.index.map_or(String::new(), |index| format!(", element {index}"));
        let field = self.field.as_ref().map_or(String::new(), |field| format!(", {field}"));
        format!("line {}{index}{field}", self.line)
    }
}

/// Counts of a body, with the first rejects.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Tally {
    /// Rows, objects, records or lines that were read.
    #[serde(default)]
    #[schema(required)]
    pub rows: u64,
    /// Accepted points.
    pub accepted: u64,
    /// Rejected points and rows.
    pub rejected: u64,
    /// Empty cells of value columns.
    #[serde(default)]
    #[schema(required)]
    pub empty_cells: u64,
    /// Rejects by reason.
    #[serde(default)]
    #[schema(required)]
    pub causes: BTreeMap<Cause, u64>,
    /// The first 100 rejects.
    pub rejects: Vec<Reject>,
    /// Notes for the sender.
    #[serde(default)]
    #[schema(required)]
    pub notes: Vec<String>,
    /// How many rejects are reported in full.
    #[serde(skip, default = "max_rejects_shown")]
    max_shown: usize,
    /// Index of the element that is being read.
    #[serde(skip)]
    element: Option<u64>,
}

fn max_rejects_shown() -> usize {
    MAX_REJECTS_SHOWN
}

impl Default for Tally {
    fn default() -> Self {
        Self::showing(MAX_REJECTS_SHOWN)
    }
}

/// The most notes that are kept.
const MAX_NOTES: usize = 50;

impl Tally {
    /// One that tells so many rejects in full.
    pub fn showing(max_shown: usize) -> Self {
        Self {
            rows: 0,
            accepted: 0,
            rejected: 0,
            empty_cells: 0,
            causes: BTreeMap::new(),
            rejects: Vec::new(),
            notes: Vec::new(),
            max_shown,
            element: None,
        }
    }

    /// Counts a point by whether the sink took it. Only of a reject is the line asked for.
    pub fn count(&mut self, line: impl FnOnce() -> u64, taken: Result<(), Refusal>) {
        match taken {
            Ok(()) => self.accepted += 1,
            Err(refusal) => self.refuse(line(), refusal),
        }
    }

    /// What follows is about this element of an array.
    pub fn at_element(&mut self, index: Option<u64>) {
        self.element = index;
    }

    /// Counts a point or a row that was refused.
    pub fn refuse(&mut self, line: u64, refusal: Refusal) {
        let Refusal { field, reason, cause } = refusal;
        self.rejected += 1;
        *self.causes.entry(cause).or_default() += 1;
        if self.rejects.len() < self.max_shown {
            self.rejects.push(Reject { line, index: self.element, field, reason, cause });
        }
    }

    /// Counts a row that could not be read.
    pub fn reject(&mut self, line: u64, field: Option<String>, reason: impl Into<String>) {
        self.refuse(line, Refusal { field, reason: reason.into(), cause: Cause::Unreadable });
    }

    /// Tells something once.
    pub fn note(&mut self, note: String) {
        if self.notes.len() < MAX_NOTES && !self.notes.contains(&note) {
            self.notes.push(note);
        }
    }

    /// Adds the counts of a later part of the same input.
    pub fn absorb(&mut self, later: Self) {
        self.rows += later.rows;
        self.accepted += later.accepted;
        self.rejected += later.rejected;
        self.empty_cells += later.empty_cells;
        later.causes.into_iter().for_each(|(cause, count)| *self.causes.entry(cause).or_default() += count);
        let room = self.max_shown.saturating_sub(self.rejects.len());
        self.rejects.extend(later.rejects.into_iter().take(room));
        later.notes.into_iter().for_each(|note| self.note(note));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_reject_is_counted_and_the_first_are_shown() {
        let mut tally = Tally::default();
        (0..80).for_each(|line| tally.reject(line, None, "no"));
        let mut whole = tally.clone();
        whole.absorb(tally);
        assert_eq!((whole.rejected, whole.rejects.len(), whole.causes[&Cause::Unreadable]), (160, MAX_REJECTS_SHOWN, 160));
    }
}
