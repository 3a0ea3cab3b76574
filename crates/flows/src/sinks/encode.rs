//! Batches as bytes.

use std::{collections::BTreeSet, io};

use fenetre_columnar::{PointValues, SeriesPoints};
use fenetre_core::{model::Value, time::format_utc};
use fenetre_formats::mapping::tag_column;

use super::outgoing::{Outgoing, Values};

/// Writes a JSON object per point, as a push takes them.
///
/// # Errors
/// Those of the output.
pub fn json_lines(batch: &Outgoing, mut out: impl io::Write) -> io::Result<()> {
    for point in batch.lines() {
        serde_json::to_writer(&mut out, &point)?;
        out.write_all(b"\n")?;
    }
    Ok(())
}

/// Writes a long table: `time`, `metric`, the tags, `value`, `word` and `histogram` as far as there are any, and `unit`.
///
/// # Errors
/// Those of the output.
pub fn csv(batch: &Outgoing, out: impl io::Write) -> io::Result<()> {
    let keys: BTreeSet<&str> = batch.stretches.iter().flat_map(|stretch| stretch.series.tags.iter().map(|(key, _)| &**key)).collect();
    let has = |is_wanted: fn(&Value) -> bool| batch.each().any(|(_, _, value)| is_wanted(&value));
    let (has_words, has_histograms) = (has(|value| matches!(value, Value::Word(_))), has(|value| matches!(value, Value::Histogram(_))));
    let mut writer = csv::Writer::from_writer(out);
    let tags = keys.iter().map(|key| tag_column(key));
    let texts = [has_words.then_some("word"), has_histograms.then_some("histogram")];
    let names = ["time", "metric"].map(str::to_owned).into_iter().chain(tags).chain(["value".to_owned()]);
    writer.write_record(names.chain(texts.into_iter().flatten().map(str::to_owned)).chain(["unit".to_owned()]))?;
    let mut row: Vec<String> = Vec::new();
    for (series, time, value) in batch.each() {
        row.clear();
        row.extend([format_utc(time), series.metric.to_string()]);
        let tag = |key: &&str| series.tags.iter().find(|(own, _)| **own == **key).map_or_else(String::new, |(_, value)| value.to_string());
        row.extend(keys.iter().map(tag));
        let (mut number, mut word, mut histogram) = (String::new(), String::new(), String::new());
        match &value {
            Value::Word(text) => text.as_ref().clone_into(&mut word),
            Value::Histogram(of) => histogram = serde_json::to_string(of)?,
            other => number = other.to_string(),
        }
        row.push(number);
        row.extend(has_words.then_some(word).into_iter().chain(has_histograms.then_some(histogram)));
        row.push(series.unit.as_deref().unwrap_or_default().to_owned());
        writer.write_record(&row)?;
    }
    writer.flush()
}

/// Writes an Arrow IPC stream with the same columns.
///
/// # Errors
/// Those of the output.
pub fn arrow(batch: &Outgoing, out: impl io::Write) -> io::Result<()> {
    fenetre_columnar::write_points_arrow(&series_of(batch), out)
}

/// Writes a Parquet file with the same columns.
///
/// # Errors
/// Those of the output.
pub fn parquet(batch: &Outgoing, out: impl io::Write + Send) -> io::Result<()> {
    fenetre_columnar::write_points_parquet(&series_of(batch), out)
}

/// Whether a value is an integer that no double holds, which columnar formats would round.
pub fn has_wide_integers(batch: &Outgoing) -> bool {
    let is_wide = |values: &Values| matches!(values, Values::Other(values) if values.iter().any(|value| matches!(value, Value::Integer(_))));
    batch.stretches.iter().any(|stretch| is_wide(&stretch.values))
}

fn series_of(batch: &Outgoing) -> Vec<SeriesPoints<'_>> {
    let points = batch.stretches.iter().map(|stretch| SeriesPoints {
        metric: &stretch.series.metric,
        tags: &stretch.series.tags,
        unit: stretch.series.unit.as_deref(),
        times: &stretch.times,
        values: match &stretch.values {
            Values::Numbers(numbers) => PointValues::Numbers(numbers),
            Values::Other(values) => PointValues::Other(values),
        },
    });
    points.collect()
}
