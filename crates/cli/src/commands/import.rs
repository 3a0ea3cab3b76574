//! `fenetre import`: a CSV file in pieces through the push call, with progress, and one report in the end.

use std::{
    fs::File,
    io::{self, BufRead, BufReader, Read},
    path::Path,
    process::ExitCode,
};

use fenetre_formats::{Tally, unpack::Encoding};
use fenetre_service::api::points::PushReport;
use indicatif::{ProgressBar, ProgressStyle};

use crate::{
    args::ImportArgs,
    client::Client,
    failure::{DONE, FAILED, Failure, SOME_REJECTED, WRONG},
    output::words::{count_of, grouped},
};

/// Rows of one piece.
const PIECE_ROWS: usize = 50_000;
/// Bytes of one piece, at about which it is sent however few its rows.
const PIECE_BYTES: usize = 8 << 20;

/// Imports the file.
pub fn run(args: &ImportArgs) -> Result<ExitCode, Failure> {
    let client = Client::of(&args.target)?;
    if args.values.is_empty() && args.states.is_empty() {
        return Err(Failure::new(WRONG, format!("no column is a value: name at least one with --value COLUMN{}", known_columns(&args.file))));
    }
    let mut parameters = parameters(args);
    if args.all_or_nothing && !args.dry_run {
        if is_standard_input(&args.file) {
            return Err(Failure::new(WRONG, "--all-or-nothing reads the file twice, which standard input cannot be"));
        }
        let tried = Import::new(&client, args, &with_dry_run(&parameters)).run()?;
        if tried.tally.rejected > 0 {
            let report = PushReport { tally: Tally { accepted: 0, ..tried.tally }, ..PushReport::default() };
            eprintln!("nothing was kept, because --all-or-nothing was asked for and rows were rejected");
            return Ok(told(&report, args));
        }
    }
    if args.dry_run {
        parameters = with_dry_run(&parameters);
    }
    let report = Import::new(&client, args, &parameters).run()?;
    Ok(told(&report, args))
}

fn is_standard_input(file: &Path) -> bool {
    file == Path::new("-")
}

fn parameters(args: &ImportArgs) -> Vec<(String, String)> {
    let mut parameters: Vec<(String, String)> = Vec::new();
    let mut add = |name: &str, values: &[String]| parameters.extend(values.iter().map(|value| (name.to_owned(), value.clone())));
    add("time", args.time.as_slice());
    add("tag", &args.tags);
    add("value", &args.values);
    add("state", &args.states);
    add("const", &args.constants);
    parameters
}

fn with_dry_run(parameters: &[(String, String)]) -> Vec<(String, String)> {
    parameters.iter().cloned().chain([("dry_run".to_owned(), "true".to_owned())]).collect()
}

/// The header's columns, to choose from, where the file can be read.
fn known_columns(file: &Path) -> String {
    let header = || -> Option<String> {
        let mut line = String::new();
        if is_standard_input(file) {
            return None;
        }
        let mut start = BufReader::new(File::open(file).ok()?);
        let encoding = Encoding::sniff(start.fill_buf().ok()?);
        BufReader::new(encoding.reader(start).ok()?).read_line(&mut line).ok()?;
        Some(line.trim().to_owned())
    };
    header().map_or(String::new(), |header| format!(". Its header is: {header}"))
}

/// One pass over the file.
struct Import<'a> {
    client: &'a Client,
    args: &'a ImportArgs,
    parameters: Vec<(&'a str, &'a str)>,
    report: PushReport,
    progress: ProgressBar,
}

/// Rows on their way, with the lines of the file that they stand on.
#[derive(Default)]
struct Piece {
    body: Vec<u8>,
    /// For each row, its line in the piece and in the file.
    lines: Vec<(u64, u64)>,
    next_line: u64,
}

impl<'a> Import<'a> {
    fn new(client: &'a Client, args: &'a ImportArgs, parameters: &'a [(String, String)]) -> Self {
        let parameters = parameters.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect();
        Self { client, args, parameters, report: PushReport::default(), progress: ProgressBar::hidden() }
    }

    fn run(mut self) -> Result<PushReport, Failure> {
        let name = self.args.file.display().to_string();
        let unreadable = |error: io::Error| Failure::new(FAILED, format!("cannot read {name}: {error}"));
        let packed: Box<dyn Read> = if is_standard_input(&self.args.file) {
            self.progress = progress(None);
            Box::new(io::stdin())
        } else {
            let file = File::open(&self.args.file).map_err(unreadable)?;
            let data = file.metadata().map_err(unreadable)?;
            if data.is_dir() {
                return Err(Failure::new(FAILED, format!("cannot read {name}: it is a folder")));
            }
            self.progress = progress(Some(data.len()));
            Box::new(file)
        };
        let mut packed = BufReader::with_capacity(1 << 20, self.progress.wrap_read(packed));
        let encoding = Encoding::sniff(packed.fill_buf().map_err(unreadable)?);
        let text = encoding.reader(packed).map_err(unreadable)?;
        let mut reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(text);
        let mut row = csv::ByteRecord::new();
        let failed = |error: csv::Error, done: &PushReport| {
            let kept = if done.dry_run {
                String::new()
            } else {
                format!(" ({} kept before that)", count_of(done.tally.accepted, "point was", "points were"))
            };
            Failure::new(FAILED, format!("cannot read {name}: {error}{kept}"))
        };
        if !reader.read_byte_record(&mut row).map_err(|error| failed(error, &self.report))? {
            return Err(Failure::new(FAILED, format!("{name} is empty: its first row must name the columns")));
        }
        let header = row.clone();
        let mut piece = Piece::begin(&header)?;
        let mut sent = false;
        while reader.read_byte_record(&mut row).map_err(|error| failed(error, &self.report))? {
            piece.add(&row)?;
            if piece.lines.len() >= PIECE_ROWS || piece.body.len() >= PIECE_BYTES {
                self.send(std::mem::replace(&mut piece, Piece::begin(&header)?))?;
                sent = true;
            }
        }
        if !sent || !piece.lines.is_empty() {
            self.send(piece)?;
        }
        self.progress.finish_and_clear();
        Ok(self.report)
    }

    fn send(&mut self, piece: Piece) -> Result<(), Failure> {
        let pushed = self.client.push(&self.args.target.dataset, "text/csv", &self.parameters, &piece.body);
        let mut report = pushed.map_err(|failure| match self.report.tally.accepted {
            0 => failure,
            kept => Failure::new(
                FAILED,
                format!(
                    "stopped before line {}: {failure}\n{} before that; run the same import again to go on, what is there already stays as it is",
                    piece.lines.first().map_or(0, |(_, line)| *line),
                    count_of(kept, "point was kept", "points were kept")
                ),
            ),
        })?;
        for reject in &mut report.tally.rejects {
            let found = piece.lines.binary_search_by_key(&reject.line, |(line, _)| *line);
            reject.line = found.map_or(reject.line, |at| piece.lines[at].1);
        }
        self.report.tally.absorb(report.tally);
        self.report.dry_run = report.dry_run;
        self.report.new_series += report.new_series;
        for metric in report.new_metrics {
            if !self.report.new_metrics.contains(&metric) {
                self.report.new_metrics.push(metric);
            }
        }
        self.progress.set_message(format!("{} points", grouped(self.report.tally.accepted)));
        Ok(())
    }
}

impl Piece {
    fn begin(header: &csv::ByteRecord) -> Result<Self, Failure> {
        let mut piece = Self { next_line: 1, ..Self::default() };
        piece.append(header)?;
        Ok(piece)
    }

    fn add(&mut self, row: &csv::ByteRecord) -> Result<(), Failure> {
        self.lines.push((self.next_line, row.position().map_or(0, csv::Position::line)));
        self.append(row)
    }

    fn append(&mut self, row: &csv::ByteRecord) -> Result<(), Failure> {
        let before = self.body.len();
        let mut writer = csv::WriterBuilder::new().flexible(true).from_writer(&mut self.body);
        writer.write_byte_record(row).map_err(|error| Failure::new(FAILED, error.to_string()))?;
        writer.flush()?;
        drop(writer);
        self.next_line += self.body[before..].iter().filter(|byte| **byte == b'\n').count() as u64;
        Ok(())
    }
}

fn progress(bytes: Option<u64>) -> ProgressBar {
    let (bar, template) = match bytes {
        Some(bytes) => (ProgressBar::new(bytes), "{bar:32} {bytes} of {total_bytes}, {eta} left, {msg}"),
        None => (ProgressBar::new_spinner(), "{spinner} {bytes} read, {msg}"),
    };
    // A template that does not parse leaves the default one.
    ProgressStyle::with_template(template).map_or(bar.clone(), |style| bar.with_style(style))
}

/// Tells what became of the rows: counts on standard output, rejects on standard error.
fn told(report: &PushReport, args: &ImportArgs) -> ExitCode {
    let PushReport { tally, new_metrics, new_series, dry_run } = report;
    for reject in &tally.rejects {
        let field = reject.field.as_ref().map_or(String::new(), |field| format!(", {field}"));
        eprintln!("line {}{field}: {}", reject.line, reject.reason);
    }
    if tally.rejected > tally.rejects.len() as u64 {
        eprintln!("… and {} more", grouped(tally.rejected - tally.rejects.len() as u64));
    }
    for note in &tally.notes {
        eprintln!("note: {note}");
    }
    let kept = if *dry_run { "would be kept" } else { "kept" };
    println!("{} {kept} in {}, {} rejected", count_of(tally.accepted, "point", "points"), args.target.dataset, grouped(tally.rejected));
    if tally.empty_cells > 0 {
        println!("{} gave no point", count_of(tally.empty_cells, "empty cell", "empty cells"));
    }
    if !new_metrics.is_empty() {
        println!("new metrics: {}", new_metrics.join(", "));
    }
    if *new_series > 0 && !*dry_run {
        println!("new series: {}", grouped(*new_series));
    }
    match (tally.accepted, tally.rejected) {
        (_, 0) => ExitCode::from(DONE),
        (0, _) => ExitCode::from(FAILED),
        _ => ExitCode::from(SOME_REJECTED),
    }
}
