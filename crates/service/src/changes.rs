//! The record of changes, as handlers write it: the change, and the values before and after it.

use fenetre_access::change::{Act, Change, Subject};
use serde_json::Value;

use crate::{access::caller::Caller, clock::now, problem::ApiError, state::State};

/// A change that is about to be made.
pub struct Recorded<'a> {
    caller: &'a Caller,
    subject: Subject,
    act: Act,
    dataset: Option<String>,
    object: String,
}

impl<'a> Recorded<'a> {
    /// A change of something, by its name.
    pub fn new(caller: &'a Caller, subject: Subject, act: Act, object: impl Into<String>) -> Self {
        Self { caller, subject, act, dataset: None, object: object.into() }
    }

    /// It belongs to a dataset.
    pub fn of(self, dataset: impl Into<String>) -> Self {
        Self { dataset: Some(dataset.into()), ..self }
    }

    /// Makes the change, and records the results of `look` before and after it.
    pub fn around<T>(
        self,
        state: &State,
        look: impl Fn(&State) -> Result<Option<Value>, ApiError>,
        work: impl FnOnce(&State) -> Result<T, ApiError>,
    ) -> Result<T, ApiError> {
        let before = look(state)?;
        let done = work(state)?;
        let after = look(state)?;
        self.write(state, before, after)?;
        Ok(done)
    }

    /// Records a change that was made.
    pub fn write(self, state: &State, before: Option<Value>, after: Option<Value>) -> Result<(), ApiError> {
        let Self { caller, subject, act, dataset, object } = self;
        let change = Change { at: now(), who: caller.who(), address: caller.address, subject, act, dataset, object, before, after };
        let unrecorded = |error| ApiError::internal(&format!("the change was made, but could not be recorded: {error}"));
        state.gate.registry.records().record(&change).map_err(unrecorded)
    }
}
