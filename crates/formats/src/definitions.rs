//! Definitions of metrics as rows of a spreadsheet.

use std::{collections::BTreeMap, io};

use fenetre_core::{
    model::{Kind, MetricDefinition, Shape, Status, Temporality, Thinning, WhenPaused},
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
    "most_series",
    "dead_band",
    "line_tolerance",
    "longest_silence",
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
            &d.most_series.map_or(String::new(), |most| most.to_string()),
            &number(thinning.dead_band),
            &number(thinning.line_tolerance),
            &span(thinning.longest_silence),
        ])?;
    }
    writer.flush()
}

/// Reads definitions from CSV. A column that is left out leaves what is `known` as it is; an empty cell means nothing.
///
/// # Errors
/// [`FormatError::Table`] with the line and the column of the first fault.
pub fn read<'d>(
    text: impl io::Read,
    known: impl Fn(&str) -> Option<&'d MetricDefinition>,
) -> Result<BTreeMap<String, MetricDefinition>, FormatError> {
    let mut reader = csv::Reader::from_reader(text);
    let wrong = FormatError::Table;
    let header: Vec<String> = reader
        .headers()
        .map_err(|error| wrong(error.to_string()))?
        .iter()
        .map(|cell| cell.trim().trim_start_matches('\u{feff}').to_owned())
        .collect();
    if let Some(column) = header.iter().find(|column| !COLUMNS.contains(&column.as_str())) {
        let hint = closest(column, COLUMNS).map_or_else(|| format!("there are {}", COLUMNS.join(", ")), |known| format!("did you mean `{known}`?"));
        return Err(wrong(format!("line 1: there is no column `{column}`: {hint}")));
    }
    if !header.iter().any(|column| column == "metric") {
        return Err(wrong("line 1: the column `metric` is missing, which names each row's metric".to_owned()));
    }
    let mut found = BTreeMap::new();
    for row in reader.records() {
        let row = row.map_err(|error| match error.kind() {
            csv::ErrorKind::UnequalLengths { pos, expected_len, len } => {
                wrong(format!("line {}: it has {len} cells, the header {expected_len}", pos.as_ref().map_or(0, csv::Position::line)))
            }
            _ => wrong(error.to_string()),
        })?;
        let line = row.position().map_or(0, csv::Position::line);
        let cells: BTreeMap<&str, &str> = header.iter().map(String::as_str).zip(row.iter().map(str::trim)).collect();
        let metric = cells["metric"];
        let mut definition = known(metric).cloned().unwrap_or_default();
        for (column, cell) in &cells {
            set(&mut definition, column, cell).map_err(|error| wrong(format!("line {line}, {column}: {error}")))?;
        }
        if definition.thinning == Some(Thinning::default()) {
            definition.thinning = None;
        }
        definition.check().map_err(|error| wrong(format!("line {line}: {error}")))?;
        if metric.is_empty() || found.insert(metric.to_owned(), definition).is_some() {
            return Err(wrong(format!("line {line}: the metric `{metric}` is {}", if metric.is_empty() { "without a name" } else { "there twice" })));
        }
    }
    Ok(found)
}

fn set(d: &mut MetricDefinition, column: &str, cell: &str) -> Result<(), String> {
    let some = (!cell.is_empty()).then_some(cell);
    let span = || some.map(Span::parse).transpose().map_err(|error| error.to_string());
    let number = || some.map(str::parse::<f64>).transpose().map_err(|_| format!("`{cell}` is not a number"));
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
        "most_series" => d.most_series = some.map(str::parse).transpose().map_err(|_| format!("`{cell}` is not a whole number"))?,
        "dead_band" => d.thinning = Some(Thinning { dead_band: number()?, ..thinning(d) }),
        "line_tolerance" => d.thinning = Some(Thinning { line_tolerance: number()?, ..thinning(d) }),
        "longest_silence" => d.thinning = Some(Thinning { longest_silence: span()?, ..thinning(d) }),
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
            most_series: Some(9),
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
    fn a_column_that_is_left_out_leaves_what_is_known() {
        let known = metrics();
        let back = read(&b"metric,description\nlevel,New words\n"[..], |name| known.get(name)).unwrap();
        assert_eq!((back["level"].description.as_str(), back["level"].unit.as_deref()), ("New words", Some("cm")));
    }

    #[test]
    fn faults_are_told_with_line_and_column() {
        let faults = [
            "metric,knid\n",
            "kind\ngauge\n",
            "metric,kind\nlevel,gage\n",
            "metric,interval\nlevel,soon\n",
            "metric\nlevel\nlevel\n",
            "metric,dead_band\nlevel,1\n",
            "metric,kind\nlevel\n",
            "metric,labels\nlevel,water\nflow,a,b\n",
        ];
        insta::assert_snapshot!(faults.map(|text| read(text.as_bytes(), |_| None).unwrap_err().to_string()).join("\n"));
    }
}
