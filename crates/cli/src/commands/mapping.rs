//! `fenetre mapping`

use std::{collections::BTreeMap, fs::File, io::Read, path::Path};

use fenetre_columnar::{look_arrow, look_parquet};
use fenetre_core::{
    model::{PointRef, PointSink, Refusal, ValueRef},
    time::{Nanos, format_utc},
};
use fenetre_formats::{
    Format, Look, Output, Tally, csv,
    decode::TextDecoder,
    json,
    mapping::{Mapping, guess::guess},
    unpack::Encoding,
};
use fenetre_wire::mappings::MappingInfo;

use super::import::read_mapping;
use crate::{
    args::MappingCommand,
    client::Client,
    failure::{FAILED, Failure, WRONG},
    output::{
        list::{Column, write},
        words::{count_of, minute},
    },
};

/// Bytes of a file that are looked at.
const LOOK_BYTES: u64 = 1 << 20;
/// Rows of it.
const LOOK_ROWS: usize = 200;
/// Points that a check shows.
const SHOWN_POINTS: usize = 10;

/// Runs a command about mappings.
pub fn run(command: MappingCommand) -> Result<(), Failure> {
    match command {
        MappingCommand::List { output, service } => write(&Client::of(&service)?.mappings()?, &columns(), output),
        MappingCommand::Show { name, service } => {
            out!("{}", Client::of(&service)?.mapping(&name)?.to_toml());
            Ok(())
        }
        MappingCommand::Guess { file, zone, format } => {
            let look = look(&file, format_of(&file, format.as_deref())?, &Mapping::default())?;
            let guessed = guess(&look, &zone, &Mapping::default());
            for reason in &guessed.reasons {
                outln!("# {}: {}, {}", reason.column, reason.taken_for, reason.why);
            }
            look.notes.iter().chain(&guessed.notes).for_each(|note| outln!("# {note}"));
            guessed.questions.iter().for_each(|question| outln!("# QUESTION: {}", question.text));
            outln!("\n{}", guessed.mapping.to_toml().trim_start());
            Ok(())
        }
        MappingCommand::Check { mapping, file, format } => check(&read_mapping(&mapping)?, &file, format_of(&file, format.as_deref())?),
        MappingCommand::Keep { name, file, service } => {
            let defined = Client::of(&service)?.put_mapping(&name, &read_mapping(&file)?)?;
            outln!("{name} {}", if defined.created { "kept" } else { "changed" });
            Ok(())
        }
        MappingCommand::Remove { name, service } => {
            Client::of(&service)?.remove_mapping(&name)?;
            outln!("{name} removed");
            Ok(())
        }
    }
}

fn columns() -> Vec<Column<MappingInfo>> {
    fn targets(info: &MappingInfo) -> (String, String) {
        let (metrics, tags) = info.mapping.targets();
        (metrics.join(" "), tags.join(" "))
    }
    vec![
        Column { name: "mapping", right: false, text: |m| m.name.clone(), plain: |m| m.name.clone() },
        Column { name: "metrics", right: false, text: |m| targets(m).0, plain: |m| targets(m).0 },
        Column { name: "tags", right: false, text: |m| targets(m).1, plain: |m| targets(m).1 },
        Column { name: "description", right: false, text: |m| m.mapping.description.clone(), plain: |m| m.mapping.description.clone() },
        Column { name: "changed (UTC)", right: false, text: |m| minute(Some(&m.changed)), plain: |m| m.changed.clone() },
    ]
}

fn format_of(file: &Path, stated: Option<&str>) -> Result<Format, Failure> {
    let name = file.to_string_lossy();
    let format = match stated {
        Some(word) => serde_json::from_value(serde_json::Value::String(word.to_owned())).ok(),
        None => Format::of_name(&name),
    };
    let format = format.ok_or_else(|| Failure::new(WRONG, format!("cannot tell the format from the name {name}: set it with --format")))?;
    if !format.takes_mapping() {
        return Err(Failure::new(WRONG, format!("{} needs no mapping", format.name())));
    }
    Ok(format)
}

/// The first bytes of a file, decompressed, as UTF-8.
fn start(file: &Path, mapping: &Mapping) -> Result<Vec<u8>, Failure> {
    let unreadable = |error: std::io::Error| Failure::new(FAILED, format!("cannot read {}: {error}", file.display()));
    let mut first = [0; 4];
    let length = File::open(file).and_then(|mut file| file.read(&mut first)).map_err(unreadable)?;
    let decompressed = Encoding::sniff(&first[..length]).reader_of(File::open(file).map_err(unreadable)?).map_err(unreadable)?;
    let (mut bytes, mut text) = (Vec::new(), Vec::new());
    decompressed.take(LOOK_BYTES).read_to_end(&mut bytes).map_err(unreadable)?;
    TextDecoder::new(mapping.table.encoding.as_deref()).decode(&bytes, false, &mut text);
    Ok(text)
}

fn look(file: &Path, format: Format, mapping: &Mapping) -> Result<Look, Failure> {
    let failed = |error: fenetre_formats::FormatError| Failure::new(FAILED, format!("{}: {error}", file.display()));
    let opened = || File::open(file).map_err(|error| Failure::new(FAILED, format!("cannot read {}: {error}", file.display())));
    match format {
        Format::Parquet => look_parquet(opened()?, LOOK_ROWS).map_err(failed),
        Format::ArrowStream => look_arrow(opened()?, LOOK_ROWS).map_err(failed),
        Format::Json | Format::JsonLines => json::look(&start(file, mapping)?, format == Format::JsonLines, LOOK_ROWS).map_err(failed),
        _ => csv::look(&start(file, mapping)?, mapping, (format == Format::Tsv).then_some(b'\t'), LOOK_ROWS).map_err(failed),
    }
}

/// Points that would be made, and definitions of their metrics.
#[derive(Default)]
struct Shown {
    points: Vec<String>,
    metrics: BTreeMap<String, u64>,
}

impl PointSink for Shown {
    fn accept(&mut self, point: PointRef<'_>) -> Result<(), Refusal> {
        *self.metrics.entry(point.metric.to_owned()).or_default() += 1;
        if self.points.len() < SHOWN_POINTS {
            let value = match point.value {
                ValueRef::Number(number) => number.to_string(),
                ValueRef::Integer(integer) => integer.to_string(),
                ValueRef::Word(word) => word.to_owned(),
                ValueRef::Histogram(histogram) => histogram.to_string(),
            };
            let tags: Vec<String> = point.tags.iter().map(|(key, value)| format!("{key}={value}")).collect();
            self.points.push(format!("{}  {}  {}  {value}", format_utc(point.time), point.metric, tags.join(" ")));
        }
        Ok(())
    }
}

fn check(mapping: &Mapping, file: &Path, format: Format) -> Result<(), Failure> {
    let failed = |error: fenetre_formats::FormatError| Failure::new(FAILED, format!("{}: {error}", file.display()));
    let text = start(file, mapping)?;
    let is_whole = (text.len() as u64) < LOOK_BYTES;
    let mut reader = format.reader(Some(mapping.clone())).ok_or_else(|| Failure::new(WRONG, "try this file with `fenetre import --dry-run`"))?;
    let (mut shown, mut tally) = (Shown::default(), Tally::default());
    let now = Nanos::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or_default();
    reader.read(&text, is_whole, &mut Output { now, sink: &mut shown, tally: &mut tally }).map_err(failed)?;
    shown.points.iter().for_each(|point| outln!("{point}"));
    for reject in &tally.rejects {
        noteln!("{}: {}", reject.place(), reject.reason);
    }
    tally.notes.iter().for_each(|note| noteln!("note: {note}"));
    let metrics: Vec<String> = shown.metrics.iter().map(|(metric, count)| format!("{metric} ({count})")).collect();
    let part = if is_whole { "" } else { " of the first megabyte" };
    outln!(
        "{} from {}{part}, {} rejected: {}",
        count_of(tally.accepted, "point", "points"),
        count_of(tally.rows, "row", "rows"),
        tally.rejected,
        metrics.join(", ")
    );
    if tally.accepted == 0 { Err(Failure::new(FAILED, "no row becomes a point by this mapping")) } else { Ok(()) }
}
