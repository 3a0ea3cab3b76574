//! `fenetre import`: a CSV file in pieces through the push call, with progress, and one report in the end.

use std::{
    fs::File,
    io::{self, BufRead, BufReader, Read},
    path::Path,
    process::ExitCode,
};

use fenetre_formats::{Tally, unpack::Encoding};
use fenetre_service::report::PushReport;
use indicatif::{ProgressBar, ProgressStyle};

use crate::{
    args::ImportArgs,
    client::Client,
    failure::{DONE, FAILED, Failure, SOME_REJECTED, WRONG},
    output::words::{count_of, grouped},
};

/// Bytes at about which a piece is sent.
const PIECE_BYTES: usize = 4 << 20;
/// Bytes at about which a row is taken to have ended, whatever its quotes say.
const LONGEST_ROW: u64 = 4 << 20;

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
        let mut rows = Rows::new(BufReader::new(encoding.reader(packed).map_err(unreadable)?));
        let mut header = Vec::new();
        let header_lines = rows.read_row(&mut header).map_err(unreadable)?;
        if header_lines == 0 {
            return Err(Failure::new(FAILED, format!("{name} is empty: its first row must name the columns")));
        }
        if !header.ends_with(b"\n") {
            header.push(b'\n');
        }
        let mut piece = Piece { body: header.clone(), before: 0 };
        let mut lines = header_lines;
        loop {
            let more = rows.read_row(&mut piece.body).map_err(|error| self.broken_off(&name, &error))?;
            lines += more;
            let full = piece.body.len() >= PIECE_BYTES;
            let is_first = piece.before == 0;
            if full || (more == 0 && (is_first || piece.body.len() > header.len())) {
                self.send(&piece)?;
                piece = Piece { body: header.clone(), before: lines - header_lines };
            }
            if more == 0 {
                break;
            }
        }
        self.progress.finish_and_clear();
        Ok(self.report)
    }

    fn broken_off(&self, name: &str, error: &io::Error) -> Failure {
        let kept = if self.args.dry_run {
            String::new()
        } else {
            format!(" ({} kept before that)", count_of(self.report.tally.accepted, "point was", "points were"))
        };
        Failure::new(FAILED, format!("cannot read {name}: {error}{kept}"))
    }

    fn send(&mut self, piece: &Piece) -> Result<(), Failure> {
        let pushed = self.client.push(&self.args.target.dataset, "text/csv", &self.parameters, &piece.body);
        let mut report = pushed.map_err(|failure| match self.report.tally.accepted {
            0 => failure,
            kept => Failure::new(
                FAILED,
                format!(
                    "stopped before line {}: {failure}\n{} before that; run the same import again to go on, what is there already stays as it is",
                    piece.before + 2,
                    count_of(kept, "point was kept", "points were kept")
                ),
            ),
        })?;
        for reject in &mut report.tally.rejects {
            reject.line += piece.before;
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

/// Rows on their way, under the header.
struct Piece {
    body: Vec<u8>,
    /// Lines of the file that come between its header and these rows.
    before: u64,
}

/// Takes text apart at the ends of rows, which are those of lines outside quotes.
struct Rows<R> {
    text: R,
}

impl<R: BufRead> Rows<R> {
    fn new(text: R) -> Self {
        Self { text }
    }

    /// Appends the next row as it stands, and says how many lines it has; none at the end.
    fn read_row(&mut self, out: &mut Vec<u8>) -> io::Result<u64> {
        let (mut lines, mut quotes, start) = (0, 0, out.len());
        loop {
            let before = out.len();
            // A quote that is never closed must not gather the whole file.
            if self.text.by_ref().take(LONGEST_ROW).read_until(b'\n', out)? == 0 {
                return Ok(lines);
            }
            lines += 1;
            quotes += out[before..].iter().filter(|byte| **byte == b'"').count();
            if quotes.is_multiple_of(2) || out.len() - start > LONGEST_ROW as usize {
                return Ok(lines);
            }
        }
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

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(text: &str) -> Vec<(u64, String)> {
        let mut rows = Rows::new(text.as_bytes());
        let mut found = Vec::new();
        loop {
            let mut row = Vec::new();
            match rows.read_row(&mut row).unwrap() {
                0 => return found,
                lines => found.push((lines, String::from_utf8(row).unwrap())),
            }
        }
    }

    #[test]
    fn a_row_ends_with_its_line_unless_that_is_in_quotes() {
        let found = rows("time,level\r\n1,2\n\n3,\"two\nlines\"\n4,\"a \"\"quote\"\"\"\nlast");
        let wanted = [(1, "time,level\r\n"), (1, "1,2\n"), (1, "\n"), (2, "3,\"two\nlines\"\n"), (1, "4,\"a \"\"quote\"\"\"\n"), (1, "last")];
        assert_eq!(found, wanted.map(|(lines, row)| (lines, row.to_owned())));
        assert_eq!(rows(""), []);
    }

    #[test]
    fn a_quote_that_is_never_closed_does_not_gather_everything() {
        let text = format!("\"{}", "x,y\n".repeat(3_000_000));
        let found = rows(&text);
        assert!(found.len() > 1 && found.iter().all(|(_, row)| row.len() as u64 <= 2 * LONGEST_ROW), "{}", found.len());
        assert_eq!(found.iter().map(|(_, row)| row.len()).sum::<usize>(), text.len());
    }
}
