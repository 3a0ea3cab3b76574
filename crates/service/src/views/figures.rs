//! The metrics of the service as OpenMetrics text, for other programs and for the dataset `own`.

use std::{
    collections::BTreeMap,
    fmt::{self, Write},
};

use fenetre_core::time::SECOND;
use fenetre_flows::arrivals::sender::Sender;
use fenetre_jobs::{DurationCounts, Figures};
use fenetre_wire::{
    sinks::SinkState,
    sources::{SourceState, Trouble},
};

use crate::{clock::now, memory, problem::ApiError, state::State};

/// Kinds of families of the standard.
#[derive(Clone, Copy)]
enum Kind {
    Gauge,
    Counter,
    Histogram,
}

/// OpenMetrics text that is being written.
#[derive(Default)]
struct Exposition {
    text: String,
    /// Prefix of every name.
    prefix: &'static str,
}

impl Exposition {
    /// Begins a family.
    fn family(&mut self, name: &str, kind: Kind, unit: &str, help: &str) {
        let kind = match kind {
            Kind::Gauge => "gauge",
            Kind::Counter => "counter",
            Kind::Histogram => "histogram",
        };
        // Writing to a text cannot fail.
        let _ = writeln!(self.text, "# TYPE {}{name} {kind}", self.prefix);
        if !unit.is_empty() {
            let _ = writeln!(self.text, "# UNIT {}{name} {unit}", self.prefix);
        }
        let _ = writeln!(self.text, "# HELP {}{name} {help}", self.prefix);
    }

    /// Adds a sample; `suffix` is `_total` for counters.
    fn sample(&mut self, name: &str, suffix: &str, labels: &[(&str, &str)], value: impl fmt::Display) {
        let escaped = |text: &str| text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n");
        let labels: Vec<String> = labels.iter().map(|(key, text)| format!("{key}=\"{}\"", escaped(text))).collect();
        let labels = if labels.is_empty() { String::new() } else { format!("{{{}}}", labels.join(",")) };
        let _ = writeln!(self.text, "{}{name}{suffix}{labels} {value}", self.prefix);
    }

    /// Adds a histogram of durations in seconds.
    fn durations(&mut self, name: &str, labels: &[(&str, &str)], counts: &DurationCounts) {
        let bounds = counts.buckets.iter().map(|(bound, count)| (bound.as_secs_f64().to_string(), *count));
        for (bound, count) in bounds.chain([("+Inf".to_owned(), counts.count)]) {
            self.sample(name, "_bucket", &[labels, &[("le", &bound)]].concat(), count);
        }
        self.sample(name, "_sum", labels, counts.sum.as_secs_f64());
        self.sample(name, "_count", labels, counts.count);
    }
}

/// Current values of all metrics; each name begins with `prefix`.
///
/// # Errors
/// If the store cannot be inspected.
pub fn exposition(state: &State, prefix: &'static str) -> Result<String, ApiError> {
    let now = now();
    let mut out = Exposition { prefix, ..Exposition::default() };
    points(state, &mut out);
    stored(state, &mut out)?;
    sources(state, &mut out);
    sinks(state, &mut out)?;
    work(state, &mut out);
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
    out.text += "# EOF\n";
    Ok(out.text)
}

fn points(state: &State, out: &mut Exposition) {
    let arrivals = &state.intake.arrivals;
    out.family("points_accepted", Kind::Counter, "", "Points accepted since the start of the service.");
    let senders = arrivals.senders();
    senders.iter().for_each(|((dataset, sender), sent)| out.sample("points_accepted", "_total", &of_sender(dataset, sender), sent.accepted));
    out.family("points_rejected", Kind::Counter, "", "Points and rows rejected since the start of the service.");
    for ((dataset, sender), sent) in &senders {
        for (cause, refused) in &sent.causes {
            let cause = serde_json::to_value(cause).ok().and_then(|word| word.as_str().map(str::to_owned)).unwrap_or_default();
            out.sample("points_rejected", "_total", &[&of_sender(dataset, sender)[..], &[("cause", &cause)]].concat(), refused.count);
        }
    }
}

/// Labels of a sender: dataset, source, and token if there is one.
fn of_sender<'a>(dataset: &'a str, sender: &'a Sender) -> Vec<(&'static str, &'a str)> {
    let token = sender.token().map(|token| ("token", token));
    [("dataset", dataset), ("source", sender.source())].into_iter().chain(token).collect()
}

fn work(state: &State, out: &mut Exposition) {
    out.family("commit_seconds", Kind::Histogram, "seconds", "Durations of commits of the journal since the start of the service.");
    out.durations("commit_seconds", &[], &state.store.commits());
    out.family("query_seconds", Kind::Histogram, "seconds", "Durations of queries since the start of the service, including the time in queues.");
    out.durations("query_seconds", &[("kind", "quick")], &state.lanes.quick_times.counts());
    out.durations("query_seconds", &[("kind", "long")], &state.lanes.long_times.counts());
    out.family("queue_length", Kind::Gauge, "", "Calls that wait in a queue.");
    state.lanes.waiting().into_iter().for_each(|(queue, waiting)| out.sample("queue_length", "", &[("queue", queue)], waiting));
}

fn stored(state: &State, out: &mut Exposition) -> Result<(), ApiError> {
    let bytes = state.store.inspect().bytes()?;
    let counts: BTreeMap<String, [usize; 2]> = state.store.with_catalogue(|catalogue| {
        catalogue.datasets().map(|dataset| (dataset.name.to_string(), [dataset.metrics().count(), dataset.series_count()])).collect()
    });
    for (at, (name, help)) in [("metrics", "Metrics of a dataset."), ("series", "Series of a dataset.")].into_iter().enumerate() {
        out.family(name, Kind::Gauge, "", help);
        counts.iter().for_each(|(dataset, counts)| out.sample(name, "", &[("dataset", dataset)], counts[at]));
    }
    out.family("stored_bytes", Kind::Gauge, "bytes", "Bytes on the disk.");
    out.sample("stored_bytes", "", &[("part", "catalogue")], bytes.catalogue);
    out.sample("stored_bytes", "", &[("part", "journal")], bytes.journal);
    for dataset in &bytes.datasets {
        for (part, bytes) in [("points", dataset.points), ("rollups", dataset.rollups), ("bin", dataset.bin)] {
            out.sample("stored_bytes", "", &[("part", part), ("dataset", &dataset.name)], bytes);
        }
    }
    out.family("waiting_points", Kind::Gauge, "", "Points in the journal and in memory that are not packed into blocks yet.");
    out.sample("waiting_points", "", &[], state.store.inspect().waiting_points());
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
    let parts = || {
        let lasting = all.iter().filter(|source| source.definition.has_lasting_parts());
        lasting.flat_map(|source| source.figures.parts.iter().map(|part| ([("source", source.name.as_str()), ("part", part.name.as_str())], part)))
    };
    out.family("source_part_up", Kind::Gauge, "", "Whether a target or a device worked in the latest round.");
    parts().for_each(|(labels, part)| out.sample("source_part_up", "", &labels, u8::from(part.error.is_none())));
    out.family("source_part_points", Kind::Gauge, "", "Points of a target or a device in the latest round.");
    parts().for_each(|(labels, part)| out.sample("source_part_points", "", &labels, part.points));
    out.family("source_part_seconds", Kind::Gauge, "seconds", "Duration of the latest round of a target or a device.");
    parts().for_each(|(labels, part)| out.sample("source_part_seconds", "", &labels, part.seconds));
    out.family("source_round_seconds", Kind::Gauge, "seconds", "Duration of the latest round of a source.");
    all.iter().for_each(|source| out.sample("source_round_seconds", "", &[("source", &source.name)], source.figures.round_seconds));
    out.family("source_series", Kind::Gauge, "", "Series of a source by state.");
    for source in &all {
        for (of_state, count) in series_by_state(state, &source.name) {
            out.sample("source_series", "", &[("source", &source.name), ("state", of_state)], count);
        }
    }
    out.family("source_rounds", Kind::Counter, "", "Rounds of a source since it was started.");
    all.iter().for_each(|source| out.sample("source_rounds", "_total", &[("source", &source.name)], source.figures.rounds));
}

fn sinks(state: &State, out: &mut Exposition) -> Result<(), ApiError> {
    let all = state.sinks.all()?;
    out.family("sink_up", Kind::Gauge, "", "Whether the latest batch of a sink was sent.");
    for sink in all.iter().filter(|sink| sink.state != SinkState::Paused) {
        out.sample("sink_up", "", &[("sink", &sink.name)], u8::from(sink.state != SinkState::Failing));
    }
    out.family("sink_points", Kind::Counter, "", "Points that a sink has sent since the start of the service.");
    all.iter().for_each(|sink| out.sample("sink_points", "_total", &[("sink", &sink.name)], sink.figures.points));
    out.family("sink_rejected", Kind::Counter, "", "Points that the destination of a sink has rejected since the start of the service.");
    all.iter().for_each(|sink| out.sample("sink_rejected", "_total", &[("sink", &sink.name)], sink.figures.rejected));
    out.family("sink_behind_points", Kind::Gauge, "", "Points that have arrived and that a sink has not sent yet.");
    all.iter().for_each(|sink| out.sample("sink_behind_points", "", &[("sink", &sink.name)], sink.behind.points));
    out.family("sink_behind_seconds", Kind::Gauge, "seconds", "Time since a sink had sent everything.");
    all.iter().for_each(|sink| out.sample("sink_behind_seconds", "", &[("sink", &sink.name)], sink.behind.seconds));
    out.family("sink_set_aside", Kind::Gauge, "", "Batches that the destination of a sink has refused.");
    all.iter().for_each(|sink| out.sample("sink_set_aside", "", &[("sink", &sink.name)], sink.set_aside));
    Ok(())
}

/// Number of series of a source in each state.
fn series_by_state(state: &State, source: &str) -> [(&'static str, usize); 4] {
    // If the source has been removed, it has none.
    let watched = state.store.with_catalogue(|catalogue| state.sources.series(source, catalogue)).unwrap_or_default();
    let sound = watched.count - watched.troubled.len();
    let [stale, stuck, clock_off] = [Trouble::Stale, Trouble::Stuck, Trouble::ClockOff].map(|trouble| watched.count_of(trouble));
    [("sound", sound), ("stale", stale), ("stuck", stuck), ("clock_off", clock_off)]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn labels_are_escaped() {
        let mut out = Exposition { prefix: "fenetre_", ..Exposition::default() };
        out.sample("source_up", "", &[("source", "a\"b\\c\nd")], 1);
        assert_eq!(out.text, "fenetre_source_up{source=\"a\\\"b\\\\c\\nd\"} 1\n");
    }
}
