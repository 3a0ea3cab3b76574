//! Limits of age and size, and expiry.

use fenetre_core::{
    keeping::{Expiry, LimitSettings, Limits, PartitionHolding, Policies, Scope},
    model::DatasetId,
    time::Nanos,
};

use crate::{engine::Engine, error::StoreError, ingest::requests::Requests, limits::horizons::Horizons, options::FileRetention, retention::expiry};

/// Limits of age and size, and expiry.
#[derive(Clone, Copy)]
pub struct Retention<'s> {
    pub(crate) engine: &'s Engine,
    pub(crate) requests: &'s Requests,
}

impl Retention<'_> {
    /// First instants that are kept of a dataset, for [`Batch::refuse_before`].
    pub fn horizons(&self, dataset: DatasetId, now: Nanos) -> Horizons {
        self.engine.horizons(dataset, now)
    }

    /// Limits by the configuration file and by runtime settings.
    pub fn policies(&self) -> Policies {
        self.engine.policies()
    }

    /// The live limits of a scope.
    pub fn runtime_limits(&self, place: Scope) -> LimitSettings {
        self.engine.policies.live(place)
    }

    /// Replaces the live limits of a scope; empty ones restore those of the file.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn set_limits(&self, place: Scope, limits: LimitSettings, now: Nanos) -> Result<(), StoreError> {
        self.engine.policies.set(&self.engine.definitions, place, limits, now)
    }

    /// Takes over the limits of the changed configuration file.
    pub fn set_file(&self, file: FileRetention) {
        self.engine.policies.set_file(file);
    }

    /// Pieces of a dataset's partitions that can be dropped separately: a partition is split if it is longer than its points are kept.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn pieces(&self, dataset: DatasetId, limits: &Limits, now: Nanos) -> Result<Vec<PartitionHolding>, StoreError> {
        expiry::pieces_of(self.engine, dataset, limits, now)
    }

    /// What would expire now under some policies.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn plan(&self, policies: &Policies, now: Nanos) -> Result<Expiry, StoreError> {
        expiry::plan(self.engine, policies, now)
    }

    /// Expires data past its limits; returns what expired.
    ///
    /// # Errors
    /// If files fail or are damaged; what expired until then stays expired, the rest follows in the next run.
    pub fn expire(&self, now: Nanos) -> Result<Expiry, StoreError> {
        let _one_at_a_time = self.engine.expiring.lock();
        expiry::expire(self.engine, now, || self.requests.pack())
    }
}
