//! `fenetre import`: a file is sent to the service, which reads it; here its progress is shown, and what became of it.

use std::{
    fs::File,
    io::{self, Read},
    path::Path,
    process::ExitCode,
    time::Duration,
};

use fenetre_formats::mapping::{
    Column, Mapping, Role,
    guess::{Guess, Question, QuestionKind},
    is_long,
};
use fenetre_wire::imports::{ImportOrder, ImportRecord, ImportStage, LookOrder};
use indicatif::{ProgressBar, ProgressStyle};

use super::imports;
use crate::{
    args::{ColumnArgs, ImportArgs},
    client::Client,
    failure::{DONE, FAILED, Failure, SOME_REJECTED, WRONG},
    output::words::grouped,
};

const LOOK_EVERY: Duration = Duration::from_millis(50);

/// Imports the file, or resumes an import.
pub fn run(args: &ImportArgs) -> Result<ExitCode, Failure> {
    let client = Client::of(&args.target.service)?;
    let record = match (&args.resume, &args.file) {
        (Some(id), _) => client.run_import(id, None)?,
        (None, Some(file)) => begin(&client, args, file)?,
        (None, None) => return Err(Failure::new(WRONG, "name a file, or an import to go on with")),
    };
    let record = follow(&client, record)?;
    report(&client, &record)
}

fn begin(client: &Client, args: &ImportArgs, file: &Path) -> Result<ImportRecord, Failure> {
    let is_input = file == Path::new("-");
    let mapping = mapping_of(client, &args.columns)?;
    let record = upload(client, args, file, is_input)?;
    let order = |mapping: Option<Mapping>| ImportOrder { mapping_name: None, mapping, dry_run: args.dry_run, all_or_nothing: args.all_or_nothing };
    let needs_one = matches!(record.format, Some(fenetre_formats::Format::Csv | fenetre_formats::Format::Tsv));
    let says_columns = mapping.as_ref().is_some_and(|mapping| !mapping.columns.is_empty() || mapping.others != Default::default());
    let begun = if args.guess {
        let look = client.look_at_import(&record.id, &LookOrder { mapping: mapping.clone(), rows: None })?;
        for reason in &look.guess.reasons {
            noteln!("{}: {}, {}", reason.column, reason.taken_for, reason.why);
        }
        look.guess.notes.iter().for_each(|note| noteln!("note: {note}"));
        match unanswered(&look.guess) {
            None => client.run_import(&record.id, Some(&order(Some(look.guess.mapping)))),
            Some(text) => Err(Failure::new(WRONG, text)),
        }
    } else if needs_one && !says_columns && !is_long_table(client, &record)? {
        let names = client
            .look_at_import(&record.id, &LookOrder::default())
            .map_or(String::new(), |look| format!(". Its columns are {}", look.names.join(", ")));
        let text = format!(
            "no column is a value: name at least one with --value COLUMN, or take --mapping, or --guess (`fenetre mapping guess` shows what that would be){names}"
        );
        Err(Failure::new(WRONG, text))
    } else {
        client.run_import(&record.id, Some(&order(mapping)))
    };
    begun.inspect_err(|_| {
        // A file that cannot be read so is sent again with other options.
        let _ = client.forget_import(&record.id);
    })
}

/// What the sample leaves open, and the options that answer it.
fn unanswered(guess: &Guess) -> Option<String> {
    let answer = |question: &Question| match (question.about, question.choices.as_slice()) {
        (QuestionKind::TimeColumn, _) => {
            "no column was recognised as the time: name it with --time COLUMN, and its format with --time-format FORMAT".to_owned()
        }
        (QuestionKind::DateOrder, choices) => {
            let options: Vec<String> = choices.iter().map(|choice| format!("--time-format '{choice}'")).collect();
            let column = question.column.as_deref().unwrap_or_default();
            format!("day and month in `{column}` are ambiguous, because neither is above 12 in the sample: add {}", options.join(" or "))
        }
    };
    let answers: Vec<String> = guess.questions.iter().map(answer).collect();
    (!answers.is_empty()).then(|| answers.join("\n"))
}

/// Whether a table says itself what its columns are.
fn is_long_table(client: &Client, record: &ImportRecord) -> Result<bool, Failure> {
    let look = client.look_at_import(&record.id, &LookOrder { mapping: None, rows: Some(1) })?;
    Ok(is_long(&look.names.iter().map(String::as_str).collect::<Vec<_>>()))
}

fn upload(client: &Client, args: &ImportArgs, file: &Path, is_input: bool) -> Result<ImportRecord, Failure> {
    let shown = file.display().to_string();
    let unreadable = |error: io::Error| Failure::new(FAILED, format!("cannot read {shown}: {error}"));
    let format = args.format.clone().or_else(|| is_input.then(|| "csv".to_owned()));
    let name =
        if is_input { "standard input".to_owned() } else { file.file_name().map_or(shown.clone(), |name| name.to_string_lossy().into_owned()) };
    let mut parameters = vec![("file", name.as_str())];
    parameters.extend(format.as_deref().map(|format| ("format", format)));
    let (bytes, progress): (Box<dyn Read>, ProgressBar) = if is_input {
        (Box::new(io::stdin()), progress(None, "sending"))
    } else {
        let file = File::open(file).map_err(unreadable)?;
        let data = file.metadata().map_err(unreadable)?;
        if data.is_dir() {
            return Err(Failure::new(FAILED, format!("cannot read {shown}: it is a folder")));
        }
        if data.len() == 0 {
            return Err(Failure::new(FAILED, format!("{shown} is empty")));
        }
        (Box::new(file), progress(Some(data.len()), "sending"))
    };
    let sent = client.upload(&args.target.dataset, &parameters, &mut progress.wrap_read(bytes));
    progress.finish_and_clear();
    sent
}

/// The mapping that the options name, overlaid with what the options state.
pub fn mapping_of(client: &Client, args: &ColumnArgs) -> Result<Option<Mapping>, Failure> {
    let mut own = Mapping { missing: args.missing.clone(), ..Mapping::default() };
    own.time.column.clone_from(&args.time);
    own.time.time_of_day.clone_from(&args.time_of_day);
    own.time.format.clone_from(&args.time_format);
    own.table.encoding.clone_from(&args.encoding);
    own.table.decimal = args.decimal;
    own.time.zone.clone_from(&args.zone);
    for (columns, role) in [(&args.tags, Role::Tag), (&args.values, Role::Value), (&args.states, Role::State)] {
        own.columns.extend(columns.iter().map(|column| Column::parse(column, role)));
    }
    for constant in &args.constants {
        let (key, value) = constant.split_once('=').ok_or_else(|| Failure::new(WRONG, format!("--const {constant}: write KEY=VALUE")))?;
        own.tags.insert(key.to_owned(), value.to_owned());
    }
    own.check().map_err(|error| Failure::new(WRONG, error))?;
    let kept = match &args.mapping {
        None => None,
        Some(named) if Path::new(named).exists() => Some(read_mapping(Path::new(named))?),
        Some(named) => Some(client.mapping(named)?),
    };
    Ok(match kept {
        Some(mut kept) => {
            kept.merge(own);
            Some(kept)
        }
        None => (own != Mapping::default()).then_some(own),
    })
}

/// Reads a mapping from a file, or standard input.
pub fn read_mapping(file: &Path) -> Result<Mapping, Failure> {
    let shown = file.display();
    let text = if file == Path::new("-") { io::read_to_string(io::stdin()) } else { std::fs::read_to_string(file) };
    let text = text.map_err(|error| Failure::new(FAILED, format!("cannot read {shown}: {error}")))?;
    Mapping::parse(&text).map_err(|error| Failure::new(WRONG, format!("{shown} is not a valid mapping: {error}")))
}

fn progress(bytes: Option<u64>, what: &str) -> ProgressBar {
    let (bar, template) = match bytes {
        Some(bytes) => (ProgressBar::new(bytes), format!("{{bar:32}} {what}, {{bytes}} of {{total_bytes}}, {{eta}} left {{msg}}")),
        None => (ProgressBar::new_spinner(), format!("{{spinner}} {what}, {{bytes}} {{msg}}")),
    };
    // A template that does not parse leaves the default one.
    ProgressStyle::with_template(&template).map_or(bar.clone(), |style| bar.with_style(style))
}

/// Waits until the service is done with it.
fn follow(client: &Client, mut record: ImportRecord) -> Result<ImportRecord, Failure> {
    let bar = progress(Some(record.bytes), "reading");
    let began = std::time::Instant::now();
    let before = record.accepted;
    let mut wait = Duration::from_millis(2);
    while record.stage == ImportStage::Running {
        std::thread::sleep(wait);
        wait = (wait * 2).min(LOOK_EVERY);
        record = client.import(&record.id).map_err(|failure| {
            bar.finish_and_clear();
            // The service has the whole file.
            let consequence = format!("\nThe import {} resumes at the next start of the service: `fenetre imports` shows its progress", record.id);
            if failure.is_unreached() { failure.with(&consequence) } else { failure }
        })?;
        bar.set_position(record.read_bytes);
        let rate = (record.accepted - before) as f64 / began.elapsed().as_secs_f64();
        bar.set_message(format!("· {} rows, {} points a second", grouped(record.rows), grouped(rate as u64)));
    }
    bar.finish_and_clear();
    Ok(record)
}

/// Prints the result: counts on standard output, rejects on standard error.
fn report(client: &Client, record: &ImportRecord) -> Result<ExitCode, Failure> {
    for reject in &record.rejects {
        noteln!("{}: {}", reject.place(), reject.reason);
    }
    if record.rejected > record.rejects.len() as u64 {
        noteln!("… and {} more: `fenetre imports rejects {}` writes all of them", grouped(record.rejected - record.rejects.len() as u64), record.id);
    }
    for note in &record.notes {
        noteln!("note: {note}");
    }
    let is_tried = record.order.dry_run;
    let is_nothing = record.stage == ImportStage::Failed && record.order.all_or_nothing && record.accepted == 0;
    if let Some(failure) = record.failure.as_ref().filter(|_| !is_nothing) {
        let kept =
            if is_tried || record.accepted == 0 { String::new() } else { format!(" ({} stored before that)", imports::points(record.accepted)) };
        let failed = Failure::new(FAILED, format!("{}: {failure}{kept}", record.file));
        if record.accepted == 0 {
            client.forget_import(&record.id)?;
        }
        return Err(failed);
    }
    if is_nothing {
        noteln!("nothing was stored, because --all-or-nothing was asked for and rows were rejected");
    }
    out!("{}", imports::summary(record));
    if is_tried || is_nothing {
        // The file is here: nobody needs the service's copy of it.
        client.forget_import(&record.id)?;
    }
    if record.stage == ImportStage::Stopped {
        outln!("stopped; `fenetre import --continue {}` continues it", record.id);
    }
    Ok(match (record.accepted + record.dropped, record.rejected) {
        (_, 0) => ExitCode::from(DONE),
        (0, _) => ExitCode::from(FAILED),
        _ => ExitCode::from(SOME_REJECTED),
    })
}
