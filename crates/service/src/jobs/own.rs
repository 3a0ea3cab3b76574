//! Stores the metrics of the service in the dataset `own`, at intervals.

use std::{collections::BTreeMap, sync::Arc, time::Duration};

use fenetre_core::{
    catalogue::{Dataset, Metric},
    model::{DatasetDefinition, MetricDefinition},
};
use fenetre_flows::intake::Order;
use fenetre_formats::Format;
use fenetre_jobs::{Backoff, Next};

use crate::{clock::now, config::OWN, problem::ApiError, state::State, views::figures::exposition};

const DESCRIPTION: &str = "The metrics of this service";

/// Starts the job.
///
/// # Errors
/// If there can be no more threads.
pub fn start(state: &Arc<State>, every: Duration) -> std::io::Result<()> {
    let own = Arc::clone(state);
    let step = move |_: &_| note(&own).map(|()| Next::Rest(every));
    state.jobs.repeat("own metrics", Backoff { first: every, most: 6 * every }, step).map(|_| ())
}

fn note(state: &State) -> Result<(), ApiError> {
    let text = exposition(state, "")?;
    if state.store.with_catalogue(|catalogue| catalogue.dataset_by_any_name(OWN).is_none()) {
        let definition = DatasetDefinition { description: DESCRIPTION.to_owned(), ..DatasetDefinition::default() };
        state.store.definitions().put_dataset(OWN, &definition)?;
    }
    let now = now();
    let order = Order { dataset: OWN, format: Format::OpenMetrics, mapping: None, metrics: &[], tags: &BTreeMap::new(), shown: 0, stop: &|| false };
    // They are not counted as arrivals, which are points from senders.
    let read = state.intake.read(order, text.into_bytes(), now)?;
    if let Some(reject) = read.tally.rejects.first() {
        tracing::warn!(reject.reason, "a metric of the service was rejected");
    }
    state.store.write(read.batch)?;
    mark_reviewed(state)
}

/// Marks the metrics as reviewed, because the service defines them itself.
fn mark_reviewed(state: &State) -> Result<(), ApiError> {
    let reviewed = |metric: &Metric| (metric.name.to_string(), MetricDefinition { unreviewed: false, ..metric.definition.clone() });
    let new: Vec<_> = state.store.with_catalogue(|catalogue| {
        let metrics = catalogue.dataset_by_any_name(OWN).into_iter().flat_map(Dataset::metrics);
        metrics.filter(|metric| metric.definition.unreviewed).map(reviewed).collect()
    });
    if !new.is_empty() {
        state.store.definitions().put_metrics(OWN, new, false)?;
    }
    Ok(())
}
