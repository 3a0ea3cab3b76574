//! What running sources and sinks have in common: they are found by name, compared with their stored definitions, and stopped.

use std::{collections::BTreeMap, sync::Arc};

use fenetre_core::suggest::hint;
use fenetre_jobs::Handle;
use fenetre_store::{Document, Store};
use fenetre_wire::flows::FlowDifference;
use parking_lot::Mutex;

use crate::{definition::document::is_same, error::FlowError};

/// Running sources or sinks, by name.
pub struct Named<R> {
    /// `source` or `sink`.
    noun: &'static str,
    all: Mutex<BTreeMap<String, Arc<R>>>,
}

impl<R> Named<R> {
    /// None yet; errors call one `noun`.
    pub fn new(noun: &'static str) -> Self {
        Self { noun, all: Mutex::default() }
    }

    /// The one with a name.
    ///
    /// # Errors
    /// If there is none, with a hint.
    pub fn find(&self, name: &str) -> Result<Arc<R>, FlowError> {
        let all = self.all.lock();
        let missing = || {
            let known = hint(name, all.keys().map(String::as_str), 10);
            FlowError::Definition(format!("there is no {} `{name}`: {known}", self.noun))
        };
        all.get(name).cloned().ok_or_else(missing)
    }

    /// All of them, by name.
    pub fn all(&self) -> Vec<(String, Arc<R>)> {
        self.all.lock().iter().map(|(name, running)| (name.clone(), Arc::clone(running))).collect()
    }

    /// Adds one, and returns the one with the same name that it replaces.
    pub fn put(&self, name: &str, running: Arc<R>) -> Option<Arc<R>> {
        self.all.lock().insert(name.to_owned(), running)
    }

    /// Removes one.
    pub fn remove(&self, name: &str) {
        self.all.lock().remove(name);
    }
}

/// The difference between a definition and the stored one with the same name.
///
/// # Errors
/// If the stored definition cannot be read.
pub fn compare<D: Document>(store: &Store, name: &str, definition: &D) -> Result<FlowDifference, FlowError> {
    Ok(match store.documents().get::<D>(name)? {
        None => FlowDifference::New,
        Some(kept) if is_same(&kept.body, definition) => FlowDifference::None,
        Some(_) => FlowDifference::Changed,
    })
}

/// Stops a job, if there is one, and waits until it has ended.
pub fn stop(job: &Mutex<Option<Handle>>) {
    if let Some(job) = job.lock().take() {
        job.stop();
        job.join();
    }
}
