//! Definitions of metrics as rows of a spreadsheet.

use std::{borrow::Cow, collections::BTreeMap, io};

use fenetre_core::{
    model::{Kind, MetricDefinition, Shape, Status, Temporality, Thinning, WhenPaused, renamed_key},
    suggest::closest,
    time::Span,
};

use crate::FormatError;

const COLUMNS: [&str; 16] = [
    "metric",
    "kind",
    "unit",
    "shape",
    "description",
    "temporality",
    "interval",
    "stale_after",
    "labels",
    "status",
    "when_paused",
    "unreviewed",
    "max_series",
    "dead_band",
    "line_tolerance",
    "max_silence",
];

/// Writes the definitions of metrics as CSV.
///
/// # Errors
/// Those of `out`.
pub fn write<'d>(metrics: impl IntoIterator<Item = (&'d str, &'d MetricDefinition)>, out: impl io::Write) -> io::Result<()> {
    let mut writer = csv::Writer::from_writer(out);
    writer.write_record(COLUMNS)?;
    for (name, d) in metrics {
        let span = |span: Option<Span>| span.map_or(String::new(), |span| span.to_string());
        let number = |number: Option<f64>| number.map_or(String::new(), |number| number.to_string());
        let thinning = d.thinning.unwrap_or_default();
        let temporality = d.temporality.map_or("", |temporality| if temporality == Temporality::Delta { "delta" } else { "cumulative" });
        writer.write_record([
            name,
            d.kind.as_str(),
            d.unit.as_deref().unwrap_or_default(),
            d.shape.as_str(),
            &d.description,
            temporality,
            &span(d.interval),
            &span(d.stale_after),
            &d.labels.join(" "),
            d.status.as_str(),
            if d.when_paused == WhenPaused::Drop { "drop" } else { "refuse" },
            if d.unreviewed { "true" } else { "false" },
            &d.max_series.map_or(String::new(), |most| most.to_string()),
            &number(thinning.dead_band),
            &number(thinning.line_tolerance),
            &span(thinning.max_silence),
        ])?;
    }
    writer.flush()
}

/// Faults that are listed; the rest are counted.
const MAX_LISTED: usize = 20;

/// A table as a spreadsheet has saved it, ready to be parsed.
struct Sheet<'t> {
    text: Cow<'t, str>,
    delimiter: u8,
    /// Lines before the header.
    skipped: u64,
}

/// Finds out how a table was saved: line ends, a first line `sep=;`, the delimiter.
fn sheet(bytes: &[u8]) -> Result<Sheet<'_>, FormatError> {
    let wrong = |text: String| Err(FormatError::Table(text));
    let text: Cow<'_, str> = match bytes {
        [0xff, 0xfe, rest @ ..] => encoding_rs::UTF_16LE.decode_without_bom_handling(rest).0,
        [0xfe, 0xff, rest @ ..] => encoding_rs::UTF_16BE.decode_without_bom_handling(rest).0,
        _ => match std::str::from_utf8(bytes) {
            Ok(text) => Cow::Borrowed(text.trim_start_matches('\u{feff}')),
            Err(error) => {
                let line = 1 + memchr::memchr_iter(b'\n', &bytes[..error.valid_up_to()]).count();
                return wrong(format!("line {line}: the table is not UTF-8. Save it as UTF-8 (in a spreadsheet: CSV UTF-8)"));
            }
        },
    };
    let text = if text.contains('\n') { text } else { Cow::Owned(text.replace('\r', "\n")) };
    let first = text.lines().next().unwrap_or_default();
    if let Some(stated) = first.to_lowercase().strip_prefix("sep=").and_then(|rest| rest.bytes().next()) {
        let rest = text.split_once('\n').map_or("", |(_, rest)| rest).to_owned();
        return Ok(Sheet { text: Cow::Owned(rest), delimiter: stated, skipped: 1 });
    }
    // That one which parts the header into the most columns that there are.
    let known = |delimiter: &u8| first.split(char::from(*delimiter)).filter(|cell| COLUMNS.contains(&cell.trim().trim_matches('"'))).count();
    let delimiter = [b',', b';', b'\t', b'|'].into_iter().rev().max_by_key(known).unwrap_or(b',');
    Ok(Sheet { text, delimiter, skipped: 0 })
}

/// Reads definitions from CSV. If a column is omitted, what is `known` stays; an empty cell removes it. Delimiters other than commas, UTF-16 and other
/// line ends are recognised.
///
/// # Errors
/// [`FormatError::Table`] with the line and column of each fault, up to 20 of them.
pub fn read<'d>(bytes: &[u8], known: impl Fn(&str) -> Option<&'d MetricDefinition>) -> Result<BTreeMap<String, MetricDefinition>, FormatError> {
    let Sheet { text, delimiter, skipped } = sheet(bytes)?;
    let mut reader = csv::ReaderBuilder::new().delimiter(delimiter).flexible(true).from_reader(text.as_bytes());
    let header: Vec<String> =
        reader.headers().map_err(|error| FormatError::Table(error.to_string()))?.iter().map(|cell| cell.trim().to_owned()).collect();
    check_header(&header, skipped + 1)?;
    let (mut found, mut faults) = (BTreeMap::new(), Vec::new());
    for row in reader.records() {
        let row = match row {
            Ok(row) => row,
            Err(error) => {
                faults.push(error.to_string());
                break;
            }
        };
        let line = skipped + row.position().map_or(0, csv::Position::line);
        // Spreadsheets fill rows up with empty cells.
        if row.iter().all(|cell| cell.trim().is_empty()) {
            continue;
        }
        if row.len() < header.len() || row.iter().skip(header.len()).any(|cell| !cell.trim().is_empty()) {
            faults.push(format!("line {line}: it has {} cells, the header {}", row.len(), header.len()));
            continue;
        }
        let cells: BTreeMap<&str, &str> =
            header.iter().map(String::as_str).zip(row.iter().map(str::trim)).filter(|(name, _)| !name.is_empty()).collect();
        let metric = cells["metric"];
        let mut definition = known(metric).cloned().unwrap_or_default();
        let before = faults.len();
        for (column, cell) in &cells {
            if let Err(error) = set(&mut definition, column, cell, delimiter == b';') {
                faults.push(format!("line {line}, {column}: {error}"));
            }
        }
        if definition.thinning == Some(Thinning::default()) {
            definition.thinning = None;
        }
        if let (Err(error), true) = (definition.check(), faults.len() == before) {
            faults.push(format!("line {line}: {error}"));
        }
        if metric.is_empty() {
            faults.push(format!("line {line}, metric: it is empty"));
        } else if found.insert(metric.to_owned(), definition).is_some() {
            faults.push(format!("line {line}, metric: `{metric}` is there twice"));
        }
    }
    match faults.len() {
        0 => Ok(found),
        count => {
            faults.truncate(MAX_LISTED);
            if count > MAX_LISTED {
                faults.push(format!("… and {} more", count - MAX_LISTED));
            }
            Err(FormatError::Table(faults.join("\n")))
        }
    }
}

fn check_header(header: &[String], line: u64) -> Result<(), FormatError> {
    let unknown = header.iter().filter(|column| !column.is_empty() && !COLUMNS.contains(&column.as_str()));
    let fault = |column: &String| {
        if let Some(new) = renamed_key(column) {
            return format!("line {line}: the column `{column}` is called `{new}` now: rename it in the header");
        }
        let hint = closest(column, COLUMNS).map_or_else(|| format!("there are {}", COLUMNS.join(", ")), |known| format!("did you mean `{known}`?"));
        format!("line {line}: there is no column `{column}`: {hint}")
    };
    let mut faults: Vec<String> = unknown.map(fault).collect();
    if !header.iter().any(|column| column == "metric") {
        faults.push(format!("line {line}: the column `metric` is missing, which names each row's metric"));
    }
    if let Some(twice) = (1..header.len()).find(|at| !header[*at].is_empty() && header[..*at].contains(&header[*at])) {
        faults.push(format!("line {line}: the column `{}` is there twice", header[twice]));
    }
    if faults.is_empty() { Ok(()) } else { Err(FormatError::Table(faults.join("\n"))) }
}

fn set(d: &mut MetricDefinition, column: &str, cell: &str, has_decimal_commas: bool) -> Result<(), String> {
    let some = (!cell.is_empty()).then_some(cell);
    let span = || some.map(Span::parse).transpose().map_err(|error| error.to_string());
    let plain = if has_decimal_commas { cell.replace(',', ".") } else { cell.to_owned() };
    let number = || some.map(|_| plain.parse::<f64>()).transpose().map_err(|_| format!("`{cell}` is not a number"));
    fn word<T>(cell: Option<&str>, of: impl Fn(&str) -> Option<T>, default: T, known: &str) -> Result<T, String> {
        cell.map_or(Ok(default), |cell| of(cell).ok_or_else(|| format!("`{cell}` is none of {known}")))
    }
    let thinning = |d: &mut MetricDefinition| *d.thinning.get_or_insert_default();
    match column {
        "kind" => d.kind = word(some, Kind::from_name, Kind::Gauge, "gauge, counter, state, histogram")?,
        "unit" => d.unit = some.map(str::to_owned),
        "shape" => d.shape = word(some, Shape::from_name, Shape::Linear, "linear, stepped")?,
        "description" => d.description = cell.to_owned(),
        "temporality" => {
            let of = |cell: &str| match cell {
                "delta" => Some(Some(Temporality::Delta)),
                "cumulative" => Some(Some(Temporality::Cumulative)),
                _ => None,
            };
            d.temporality = word(some, of, None, "cumulative, delta")?;
        }
        "interval" => d.interval = span()?,
        "stale_after" => d.stale_after = span()?,
        "labels" => d.labels = cell.split_whitespace().map(str::to_owned).collect(),
        "status" => d.status = word(some, Status::from_name, Status::Active, "active, paused, retired")?,
        "when_paused" => {
            let of = |cell: &str| match cell {
                "refuse" => Some(WhenPaused::Refuse),
                "drop" => Some(WhenPaused::Drop),
                _ => None,
            };
            d.when_paused = word(some, of, WhenPaused::Refuse, "refuse, drop")?;
        }
        "unreviewed" => d.unreviewed = word(some, |cell| cell.to_lowercase().parse().ok(), false, "true, false")?,
        "max_series" => d.max_series = some.map(str::parse).transpose().map_err(|_| format!("`{cell}` is not a whole number"))?,
        "dead_band" => d.thinning = Some(Thinning { dead_band: number()?, ..thinning(d) }),
        "line_tolerance" => d.thinning = Some(Thinning { line_tolerance: number()?, ..thinning(d) }),
        "max_silence" => d.thinning = Some(Thinning { max_silence: span()?, ..thinning(d) }),
        _ => {}
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn metrics() -> BTreeMap<String, MetricDefinition> {
        let level = MetricDefinition {
            unit: Some("cm".into()),
            description: "Water, \"upstream\"".into(),
            labels: vec!["water".into(), "lock".into()],
            interval: Some(Span::parse("1m").unwrap()),
            thinning: Some(Thinning { line_tolerance: Some(0.5), ..Thinning::default() }),
            ..MetricDefinition::default()
        };
        let boats = MetricDefinition {
            kind: Kind::Counter,
            temporality: Some(Temporality::Delta),
            status: Status::Paused,
            max_series: Some(9),
            ..MetricDefinition::default()
        };
        BTreeMap::from([("level".to_owned(), level), ("boats".to_owned(), boats)])
    }

    #[test]
    fn definitions_go_through_a_spreadsheet_unchanged() {
        let mut table = Vec::new();
        write(metrics().iter().map(|(name, definition)| (name.as_str(), definition)), &mut table).unwrap();
        assert_eq!(read(&table[..], |_| None).unwrap(), metrics());
    }

    #[test]
    fn an_omitted_column_keeps_its_stored_value() {
        let known = metrics();
        let back = read(&b"metric,description\nlevel,New words\n"[..], |name| known.get(name)).unwrap();
        assert_eq!((back["level"].description.as_str(), back["level"].unit.as_deref()), ("New words", Some("cm")));
    }

    #[test]
    fn tables_are_read_as_spreadsheets_save_them() {
        let plain = "metric,unit,dead_band,line_tolerance\nlevel,cm,,\nflow,m3/s,,0.5\n";
        let wanted = read(plain.as_bytes(), |_| None).unwrap();
        assert_eq!(wanted["flow"].thinning.unwrap().line_tolerance, Some(0.5));
        let german = plain.replace(',', ";").replace("0.5", "0,5");
        let wide: Vec<u8> = [0xff, 0xfe].into_iter().chain(plain.encode_utf16().flat_map(u16::to_le_bytes)).collect();
        let saved: [Vec<u8>; 7] = [
            german.clone().into_bytes(),
            format!("sep=;\r\n{}", german.replace('\n', "\r\n")).into_bytes(),
            plain.replace('\n', "\r").into_bytes(),
            plain.replace(',', "\t").into_bytes(),
            format!("\u{feff}{plain}").into_bytes(),
            wide,
            // Cells that a spreadsheet has filled up.
            plain.replace('\n', ",,\n").into_bytes().into_iter().chain(*b",,,,,\n").collect(),
        ];
        for (at, bytes) in saved.iter().enumerate() {
            assert_eq!(read(bytes, |_| None).unwrap(), wanted, "{at}");
        }
        let error = read(b"metric,unit\nlevel,cm\nflow,m\xb3/s\n", |_| None).unwrap_err().to_string();
        assert!(error.starts_with("line 3: the table is not UTF-8"), "{error}");
        let many: String = (0..30).map(|at| format!("m{at},gage\n")).collect();
        let error = read(format!("metric,kind\n{many}").as_bytes(), |_| None).unwrap_err().to_string();
        assert!(error.lines().count() == 21 && error.ends_with("… and 10 more"), "{error}");
    }

    #[test]
    fn errors_have_line_and_column() {
        let faults = [
            "metric,knid\n",
            "metric,most_series\n",
            "kind\ngauge\n",
            "metric,kind\nlevel,gage\n",
            "metric,interval\nlevel,soon\n",
            "metric\nlevel\nlevel\n",
            "metric,dead_band\nlevel,1\n",
            "metric,kind\nlevel\n",
            "metric,labels\nlevel,water\nflow,a,b\n",
            "metric,kind,interval,unit\nlevel,gage,soon,cm\n,gauge,,\nflow,gauge,1m,m3/s\nflow,gauge,1m,m3/s\n",
            "name;kind;kind\n",
        ];
        insta::assert_snapshot!(faults.map(|text| read(text.as_bytes(), |_| None).unwrap_err().to_string()).join("\n"));
    }
}
