//! The service's own metrics as OpenMetrics text, for another program, or for a source of this service.

use std::{
    collections::BTreeMap,
    fmt::{self, Write},
};

use actix_web::{HttpResponse, get};
use fenetre_core::time::SECOND;
use fenetre_jobs::Figures;
use fenetre_wire::sources::SourceState;

use crate::{
    clock::now,
    memory,
    permission::{Access, ReadStoreGrant},
    problem::{ApiError, Problem},
    state::{AppState, State, blocking_long},
};

const CONTENT_TYPE: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// Returns the figures of the service as OpenMetrics text.
#[utoipa::path(security(("token" = ["read, all datasets"])), tag = "store",
    responses((status = 200, body = String, content_type = "application/openmetrics-text"), (status = 403, body = Problem)))]
#[get("/metrics")]
pub(crate) async fn metrics(_: Access<ReadStoreGrant>, state: AppState) -> Result<HttpResponse, ApiError> {
    blocking_long(&state, exposition).await.map(|text| HttpResponse::Ok().content_type(CONTENT_TYPE).body(text))
}

/// Kinds of families of the standard.
#[derive(Clone, Copy)]
enum Kind {
    Gauge,
    Counter,
}

/// A text that is being written.
#[derive(Default)]
struct Exposition(String);

impl Exposition {
    /// Begins a family.
    fn family(&mut self, name: &str, kind: Kind, unit: &str, help: &str) {
        let kind = match kind {
            Kind::Gauge => "gauge",
            Kind::Counter => "counter",
        };
        // Writing to a text cannot fail.
        let _ = writeln!(self.0, "# TYPE fenetre_{name} {kind}");
        if !unit.is_empty() {
            let _ = writeln!(self.0, "# UNIT fenetre_{name} {unit}");
        }
        let _ = writeln!(self.0, "# HELP fenetre_{name} {help}");
    }

    /// Adds a sample; `suffix` is `_total` for counters.
    fn sample(&mut self, name: &str, suffix: &str, labels: &[(&str, &str)], value: impl fmt::Display) {
        let escaped = |text: &str| text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n");
        let labels: Vec<String> = labels.iter().map(|(key, text)| format!("{key}=\"{}\"", escaped(text))).collect();
        let labels = if labels.is_empty() { String::new() } else { format!("{{{}}}", labels.join(",")) };
        let _ = writeln!(self.0, "fenetre_{name}{suffix}{labels} {value}");
    }
}

fn exposition(state: &State) -> Result<String, ApiError> {
    let now = now();
    let mut out = Exposition::default();
    points(state, &mut out);
    stored(state, &mut out)?;
    sources(state, &mut out);
    let jobs: Vec<Figures> = state.store.jobs().into_iter().chain(state.jobs.figures()).collect();
    out.family("job_steps", Kind::Counter, "", "Finished steps of a background job.");
    jobs.iter().for_each(|job| out.sample("job_steps", "_total", &[("job", &job.name)], job.steps));
    out.family("job_failures", Kind::Gauge, "", "Failures in a row of a background job.");
    jobs.iter().for_each(|job| out.sample("job_failures", "", &[("job", &job.name)], job.failures));
    let (resident, files) = memory::in_use();
    out.family("memory_bytes", Kind::Gauge, "bytes", "Resident memory of the process.");
    out.sample("memory_bytes", "", &[], resident);
    out.family("open_files", Kind::Gauge, "", "Open files of the process.");
    out.sample("open_files", "", &[], files);
    out.family("uptime_seconds", Kind::Gauge, "seconds", "Time since the start of the service.");
    out.sample("uptime_seconds", "", &[], now.saturating_sub(state.started) / SECOND);
    out.0 += "# EOF\n";
    Ok(out.0)
}

fn points(state: &State, out: &mut Exposition) {
    let arrivals = &state.intake.arrivals;
    out.family("points_accepted", Kind::Counter, "", "Points accepted since the start of the service.");
    arrivals.accepted().iter().for_each(|(dataset, count)| out.sample("points_accepted", "_total", &[("dataset", dataset)], count));
    out.family("points_rejected", Kind::Counter, "", "Points and rows rejected since the start of the service.");
    for ((dataset, cause), count) in arrivals.rejected() {
        let cause = serde_json::to_value(cause).ok().and_then(|word| word.as_str().map(str::to_owned)).unwrap_or_default();
        out.sample("points_rejected", "_total", &[("dataset", &dataset), ("cause", &cause)], count);
    }
}

fn stored(state: &State, out: &mut Exposition) -> Result<(), ApiError> {
    let report = state.store.inspect().report(now())?;
    let counts: BTreeMap<String, [usize; 2]> = state.store.with_catalogue(|catalogue| {
        catalogue.datasets().map(|dataset| (dataset.name.to_string(), [dataset.metrics().count(), dataset.series_count()])).collect()
    });
    for (at, (name, help)) in [("metrics", "Metrics of a dataset."), ("series", "Series of a dataset.")].into_iter().enumerate() {
        out.family(name, Kind::Gauge, "", help);
        counts.iter().for_each(|(dataset, counts)| out.sample(name, "", &[("dataset", dataset)], counts[at]));
    }
    out.family("stored_bytes", Kind::Gauge, "bytes", "Bytes on the disk.");
    out.sample("stored_bytes", "", &[("part", "catalogue")], report.catalogue_bytes);
    out.sample("stored_bytes", "", &[("part", "journal")], report.journal.bytes);
    for dataset in &report.datasets {
        let packed: u64 = dataset.partitions.iter().map(|partition| partition.bytes).sum();
        for (part, bytes) in [("points", packed), ("rollups", dataset.rollup_bytes), ("bin", dataset.bin_bytes)] {
            out.sample("stored_bytes", "", &[("part", part), ("dataset", &dataset.name)], bytes);
        }
    }
    out.family("waiting_points", Kind::Gauge, "", "Points in the journal and in memory that are not packed into blocks yet.");
    out.sample("waiting_points", "", &[], report.journal.points);
    if let Some(volume) = state.store.volume() {
        out.family("volume_free_bytes", Kind::Gauge, "bytes", "Free space of the volume.");
        out.sample("volume_free_bytes", "", &[], volume.free);
    }
    Ok(())
}

fn sources(state: &State, out: &mut Exposition) {
    let all = state.sources.all();
    out.family("source_up", Kind::Gauge, "", "Whether the latest round of a source worked.");
    for source in all.iter().filter(|source| source.state != SourceState::Paused) {
        out.sample("source_up", "", &[("source", &source.name)], u8::from(source.state != SourceState::Failing));
    }
    out.family("source_part_up", Kind::Gauge, "", "Whether a target or a file worked in the latest round.");
    for source in &all {
        for part in &source.figures.parts {
            out.sample("source_part_up", "", &[("source", &source.name), ("part", &part.name)], u8::from(part.error.is_none()));
        }
    }
    out.family("source_round_seconds", Kind::Gauge, "seconds", "Duration of the latest round of a source.");
    all.iter().for_each(|source| out.sample("source_round_seconds", "", &[("source", &source.name)], source.figures.round_seconds));
    for (name, help) in [
        ("source_points", "Points that a source has stored since it was started."),
        ("source_rejected", "Points and rows of a source that were rejected since it was started."),
        ("source_rounds", "Rounds of a source since it was started."),
    ] {
        out.family(name, Kind::Counter, "", help);
        for source in &all {
            let count = match name {
                "source_points" => source.figures.points,
                "source_rejected" => source.figures.rejects.count(),
                _ => source.figures.rounds,
            };
            out.sample(name, "_total", &[("source", &source.name)], count);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn labels_are_escaped() {
        let mut out = Exposition::default();
        out.sample("source_up", "", &[("source", "a\"b\\c\nd")], 1);
        assert_eq!(out.0, "fenetre_source_up{source=\"a\\\"b\\\\c\\nd\"} 1\n");
    }
}
