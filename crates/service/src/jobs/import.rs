//! An import that runs: part after part into the store, each recorded when it is kept.

use std::{
    collections::HashSet,
    convert::Infallible,
    fs::{self, OpenOptions},
    io::{Seek, SeekFrom, Write},
    sync::Arc,
    time::Duration,
};

use fenetre_core::{
    model::{PointRef, PointSink, Refusal},
    time::{Nanos, format_utc, parse_rfc3339},
};
use fenetre_flows::{arrivals::sender::Sender, intake::duplicates::note_duplicates};
use fenetre_formats::{
    Format, Output, Tally,
    mapping::{Mapping, guess::collisions},
};
use fenetre_jobs::Job;
use fenetre_store::StoreError;
use fenetre_wire::imports::{ImportOrder, ImportRecord, ImportStage};
use parking_lot::Mutex;

use crate::{
    clock::now,
    imports::{Imports, MAX_RUNNING, Running, input::Input},
    problem::{ApiError, ProblemKind},
    state::State,
};

/// Pause before the next attempt, while the store is behind.
const PAUSE: Duration = Duration::from_millis(200);

/// Rows that are looked at for columns that are missing as tags.
const LOOK_ROWS: usize = 200;

impl Imports {
    /// Begins an import, or resumes it.
    pub fn begin(&self, state: &Arc<State>, mut record: ImportRecord) -> Result<ImportRecord, ApiError> {
        let mut running = self.running.lock();
        if running.contains_key(&record.id) {
            return Err(ApiError::new(ProblemKind::Definition, format!("the import `{}` is running: wait for it, or stop it", record.id)));
        }
        if running.len() >= MAX_RUNNING {
            return Err(ApiError::new(
                ProblemKind::Busy,
                format!("{MAX_RUNNING} imports are running, which is the maximum: wait for one of them to finish"),
            ));
        }
        // A power cut may have left less of it than was sent.
        if fs::metadata(self.file(&record.id)).map_or(0, |file| file.len()) != record.bytes {
            let text = format!("the file of the import `{}` is incomplete ({}): upload it again", record.id, record.stage.as_str());
            return Err(ApiError::new(ProblemKind::Definition, text));
        }
        record.stage = ImportStage::Running;
        record.failure = None;
        self.keep(&state.store, &record)?;
        let run = Arc::new(Running { record: Mutex::new(record.clone()), job: Mutex::default() });
        running.insert(record.id.clone(), Arc::clone(&run));
        let shared = Arc::clone(state);
        let id = record.id.clone();
        let own = Arc::clone(&run);
        let work = move |job: &Job| {
            carry_out(&shared, &own, job);
            shared.imports.running.lock().remove(&id);
            Ok::<_, Infallible>(())
        };
        *run.job.lock() = Some(state.jobs.run("import", work).map_err(|error| ApiError::internal(&error))?);
        Ok(record)
    }

    /// Goes on with the imports that the end of the service interrupted.
    pub fn resume(&self, state: &Arc<State>) {
        let interrupted = match self.all(&state.store) {
            Ok(records) => records.into_iter().filter(|record| record.stage == ImportStage::Running),
            Err(error) => return tracing::error!(%error, "imports could not be read"),
        };
        for record in interrupted {
            tracing::info!(id = record.id, file = record.file, "continuing an interrupted import");
            if let Err(error) = self.begin(state, record.clone()) {
                tracing::error!(%error, id = record.id, "it does not");
                let stopped = ImportRecord { stage: ImportStage::Stopped, ..record };
                let _ = self.keep(&state.store, &stopped);
            }
        }
    }
}

/// The mapping that an order names or brings, where the format takes one.
pub fn mapping_of(state: &State, may_list: bool, order: &ImportOrder, format: Format) -> Result<Option<Mapping>, ApiError> {
    let kept = order.mapping_name.as_deref().map(|name| crate::views::mappings::find(state, may_list, name)).transpose()?;
    let mapping = match (kept, order.mapping.clone()) {
        (Some(mut kept), Some(own)) => {
            kept.merge(own);
            Some(kept)
        }
        (kept, own) => kept.or(own),
    };
    let fault = |text: String| ApiError::new(ProblemKind::Request, text);
    if let Some(mapping) = &mapping {
        mapping.check().map_err(fault)?;
        if !format.takes_mapping() {
            return Err(fault(format!("{} needs no mapping: mappings are for tables and JSON objects", format.name())));
        }
    }
    match format {
        // A long table says itself what its columns are.
        Format::Csv | Format::Tsv => Ok(Some(mapping.unwrap_or_default())),
        _ => Ok(mapping),
    }
}

/// How a pass over the file ended.
enum Ended {
    Whole,
    Stopped,
}

/// A sink that discards the points, for parts that are stored already.
struct NullSink;

impl PointSink for NullSink {
    fn accept(&mut self, _: PointRef<'_>) -> Result<(), Refusal> {
        Ok(())
    }
}

/// Runs an import to its end, and records how it ended.
fn carry_out(state: &State, run: &Running, job: &Job) {
    let (outcome, dry_run) = {
        let order = run.record.lock().order.clone();
        let wants_proof = order.all_or_nothing && !order.dry_run && run.record.lock().parts == 0;
        let outcome = if wants_proof { try_first(state, run, job) } else { Ok(true) };
        let outcome = match outcome {
            Ok(true) => pass(state, run, job, order.dry_run),
            Ok(false) => Err(ApiError::new(
                crate::problem::ProblemKind::Rejected,
                "nothing was stored: all_or_nothing was asked for, and something was rejected",
            )),
            Err(problem) => Err(problem),
        };
        (outcome, order.dry_run)
    };
    let mut record = run.record.lock().clone();
    if matches!(outcome, Ok(Ended::Whole))
        && let Some(note) = note_duplicates(record.duplicates, record.accepted, &missing_tags(state, run, &record))
    {
        // The first that anybody reads.
        record.notes.insert(0, note);
    }
    record.ended = Some(format_utc(now()));
    match outcome {
        Ok(Ended::Whole) if dry_run => record.stage = ImportStage::Waiting,
        Ok(Ended::Whole) => record.stage = ImportStage::Done,
        // It resumes when the service starts again.
        Ok(Ended::Stopped) if state.jobs.is_stopping() => record.stage = ImportStage::Running,
        Ok(Ended::Stopped) => record.stage = ImportStage::Stopped,
        Err(problem) => {
            tracing::warn!(id = record.id, file = record.file, error = problem.detail, "an import failed");
            record.stage = ImportStage::Failed;
            record.failure = Some(problem.into_problem().detail);
        }
    }
    if record.stage == ImportStage::Done {
        tracing::info!(id = record.id, file = record.file, accepted = record.accepted, rejected = record.rejected, "import done");
        let _ = std::fs::remove_file(state.imports.file(&record.id));
    }
    // The result is recorded before it counts as ended, so that a caller that sees the end can begin it again at once.
    if let Err(error) = state.imports.keep(&state.store, &record) {
        tracing::error!(%error, id = record.id, "the record of an import could not be stored");
    }
}

/// Columns that would distinguish points of an import, if they were tags.
fn missing_tags(state: &State, run: &Running, record: &ImportRecord) -> Vec<String> {
    let Some(format) = record.format.filter(|format| record.duplicates > 0 && format.takes_mapping()) else { return Vec::new() };
    let Ok(Some(mapping)) = mapping_of_run(state, run, format) else { return Vec::new() };
    let look = crate::imports::input::look(&state.imports.file(&record.id), format, &mapping, LOOK_ROWS);
    look.map_or(Vec::new(), |look| collisions(&look, &mapping).missing_tags)
}

/// Reads everything without keeping it; returns whether nothing was rejected.
fn try_first(state: &State, run: &Running, job: &Job) -> Result<bool, ApiError> {
    pass(state, run, job, true)?;
    let mut record = run.record.lock();
    if record.rejected > 0 {
        record.accepted = 0;
        (record.new_metrics, record.new_tags, record.new_series) = (Vec::new(), Vec::new(), 0);
        return Ok(false);
    }
    *record = ImportRecord { order: record.order.clone(), begun: record.begun.clone(), stage: ImportStage::Running, ..record.reset() };
    Ok(true)
}

/// One pass over the file, from where the record says that it is.
fn pass(state: &State, run: &Running, job: &Job, dry_run: bool) -> Result<Ended, ApiError> {
    let (id, dataset, format, whole, done, begun) = {
        let record = run.record.lock();
        (record.id.clone(), record.dataset.clone(), record.format, record.bytes, record.parts, record.begun.clone())
    };
    // Rows without a time get the time at which the import began, also after a resume.
    let started: Nanos = begun.as_deref().and_then(|begun| parse_rfc3339(begun).ok()).unwrap_or_else(now);
    let format = format.ok_or_else(|| ApiError::new(crate::problem::ProblemKind::Request, "the import does not say its format"))?;
    let mapping = state.intake.in_zone(&dataset, format, mapping_of_run(state, run, format)?);
    let mut input = Input::open(&state.imports.file(&id), format, mapping)?;
    let mut rejects = Rejects::open(state, run)?;
    // Numbers of series that are new, which a dry run meets again in each part.
    let mut new_series = HashSet::new();
    let mut part = 0;
    loop {
        if job.is_stopping() {
            return Ok(Ended::Stopped);
        }
        let mut tally = Tally::showing(usize::MAX);
        part += 1;
        if part <= done {
            if !input.read(&mut Output { now: started, sink: &mut NullSink, tally: &mut tally })? {
                return Ok(Ended::Whole);
            }
            continue;
        }
        let mut batch = state.intake.begin(&dataset, started)?;
        let more = input.read(&mut Output { now: started, sink: &mut batch, tally: &mut tally })?;
        batch.notes().iter().for_each(|note| tally.note(note.clone()));
        let (dropped, duplicates) = (batch.dropped(), batch.duplicates());
        tally.accepted -= dropped.min(tally.accepted);
        let (span, tags) = (batch.span(), batch.new_tags());
        let metrics: Vec<String> = batch.new_metrics().map(str::to_owned).collect();
        let series = if dry_run {
            let before = new_series.len();
            new_series.extend(batch.new_series_numbers());
            new_series.len() - before
        } else {
            batch.new_series()
        };
        let replaced = if dry_run { Some(0) } else { keep(state, job, batch)? };
        if !dry_run {
            state.intake.arrivals.count(now(), &dataset, &Sender::Import, &tally);
        }
        let rejects_bytes = rejects.write(&tally)?;
        let record = {
            let mut record = run.record.lock();
            let mut whole_tally = record.tally();
            whole_tally.absorb(tally);
            record.set_tally(whole_tally);
            record.dropped += dropped;
            record.duplicates += duplicates;
            record.replaced = record.replaced.zip(replaced).map(|(before, now)| before + now);
            record.new_series += series as u64;
            add_new(&mut record.new_metrics, metrics);
            add_new(&mut record.new_tags, tags);
            if let Some((first, last)) = span {
                let at = |text: &Option<String>| text.as_deref().and_then(|text| parse_rfc3339(text).ok());
                record.first = Some(format_utc(at(&record.first).map_or(first, |known| known.min(first))));
                record.last = Some(format_utc(at(&record.last).map_or(last, |known| known.max(last))));
            }
            record.read_bytes = if more { input.read_bytes(whole) } else { whole };
            record.rejects_bytes = rejects_bytes;
            record.parts = part;
            record.clone()
        };
        if !dry_run {
            state.imports.keep(&state.store, &record)?;
        }
        if !more {
            return Ok(Ended::Whole);
        }
    }
}

/// Maximum number of names in a list: if there are more, the first show what is wrong.
const MAX_NAMES: usize = 10_000;

fn add_new(known: &mut Vec<String>, new: Vec<String>) {
    for name in new {
        if known.len() < MAX_NAMES && !known.contains(&name) {
            known.push(name);
        }
    }
}

/// Keeps a batch, when the store has room for it.
fn keep(state: &State, job: &Job, batch: fenetre_store::Batch) -> Result<Option<u64>, ApiError> {
    while state.store.is_behind() && !job.is_stopping() {
        job.rest(PAUSE);
    }
    match state.store.write(batch) {
        Err(StoreError::Busy { .. }) => Err(ApiError::new(
            crate::problem::ProblemKind::Behind,
            "the store did not keep up with packing; `fenetre import --continue` continues the import",
        )),
        written => Ok(written?),
    }
}

/// The mapping by which an import's file is read.
fn mapping_of_run(state: &State, run: &Running, format: Format) -> Result<Option<Mapping>, ApiError> {
    let order = run.record.lock().order.clone();
    mapping_of(state, false, &order, format)
}

/// The file of rejects, an object a line.
struct Rejects {
    file: Option<std::fs::File>,
    path: std::path::PathBuf,
    bytes: u64,
}

impl Rejects {
    /// Goes on after what the record knows of; what follows was not recorded, and comes again.
    fn open(state: &State, run: &Running) -> Result<Self, ApiError> {
        let record = run.record.lock();
        let path = state.imports.rejects(&record.id);
        let bytes = record.rejects_bytes;
        if bytes == 0 {
            let _ = std::fs::remove_file(&path);
            return Ok(Self { file: None, path, bytes });
        }
        let failed = |error: std::io::Error| ApiError::internal(&error);
        let mut file = OpenOptions::new().write(true).open(&path).map_err(failed)?;
        file.set_len(bytes).and_then(|()| file.seek(SeekFrom::End(0))).map_err(failed)?;
        Ok(Self { file: Some(file), path, bytes })
    }

    fn write(&mut self, tally: &Tally) -> Result<u64, ApiError> {
        if tally.rejects.is_empty() {
            return Ok(self.bytes);
        }
        let failed = |error: std::io::Error| ApiError::internal(&error);
        let mut lines = Vec::new();
        for reject in &tally.rejects {
            serde_json::to_writer(&mut lines, reject).map_err(|error| ApiError::internal(&error))?;
            lines.push(b'\n');
        }
        let file = match &mut self.file {
            Some(file) => file,
            None => self.file.insert(std::fs::File::create(&self.path).map_err(failed)?),
        };
        file.write_all(&lines).map_err(failed)?;
        self.bytes += lines.len() as u64;
        Ok(self.bytes)
    }
}
