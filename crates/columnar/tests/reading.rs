//! Tables of every type that a column may have, written with the formats' own libraries and read back as points.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::{fmt::Write as _, fs::File, sync::Arc};

use arrow_array::{
    ArrayRef, BooleanArray, Decimal128Array, DictionaryArray, DurationSecondArray, FixedSizeBinaryArray, Float32Array, Float64Array, Int64Array,
    ListArray, RecordBatch, StringArray, StructArray, Time64MicrosecondArray, TimestampMillisecondArray, UInt64Array,
    types::{Int8Type, Int32Type},
};
use arrow_schema::{DataType, Field, Schema};
use fenetre_columnar::{ArrowRows, ParquetRows, look_arrow, look_parquet};
use fenetre_core::{
    model::{About, Described, KnownSeries, PointRef, PointSink, Refusal, ValueRef},
    time::{Nanos, format_utc},
};
use fenetre_formats::{FormatError, Output, Tally, mapping::Mapping};
use proptest::prelude::*;

#[derive(Default)]
struct Notebook(String);

impl PointSink for Notebook {
    fn accept(&mut self, point: PointRef<'_>) -> Result<(), Refusal> {
        let _ = writeln!(self.0, "{} {} {:?} {:?}", format_utc(point.time), point.metric, point.tags, point.value);
        Ok(())
    }

    fn describe(&mut self, metric: &str, about: About<'_>) -> Described {
        let _ = writeln!(self.0, "about {metric}: {:?} {:?}", about.kind, about.unit);
        Described::default()
    }
}

fn table() -> RecordBatch {
    let lists = ListArray::from_iter_primitive::<Int32Type, _, _>([Some(vec![Some(1)]), None, None]);
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("at", Arc::new(TimestampMillisecondArray::from(vec![Some(1_777_626_000_000), Some(1_777_626_060_000), None]).with_timezone("UTC"))),
        ("lock", Arc::new(StringArray::from(vec![Some("osier"), None, Some("marl")]))),
        ("side", Arc::new(vec![Some("up"), Some("down"), Some("up")].into_iter().collect::<DictionaryArray<Int8Type>>())),
        ("level", Arc::new(Float64Array::from(vec![Some(312.5), None, Some(1.0)]))),
        ("flow", Arc::new(Float32Array::from(vec![4.1, f32::NAN, 1.0]))),
        ("boats", Arc::new(UInt64Array::from(vec![17, u64::MAX, 1]))),
        ("turns", Arc::new(Int64Array::from(vec![-3, 4, 1]))),
        ("price", Arc::new(Decimal128Array::from(vec![12_345, -1, 0]).with_precision_and_scale(10, 2).unwrap())),
        ("open", Arc::new(BooleanArray::from(vec![Some(true), Some(false), None]))),
        ("list", Arc::new(lists)),
    ];
    RecordBatch::try_from_iter_with_nullable(columns.into_iter().map(|(name, column)| (name, column, true))).unwrap()
}

fn stream(batches: &[RecordBatch]) -> Vec<u8> {
    let mut writer = arrow_ipc::writer::StreamWriter::try_new(Vec::new(), &batches[0].schema()).unwrap();
    batches.iter().for_each(|batch| writer.write(batch).unwrap());
    writer.into_inner().unwrap()
}

fn parquet(folder: &std::path::Path, batches: &[RecordBatch]) -> File {
    let path = folder.join("points.parquet");
    let mut writer = parquet::arrow::ArrowWriter::try_new(File::create(&path).unwrap(), batches[0].schema(), None).unwrap();
    batches.iter().for_each(|batch| writer.write(batch).unwrap());
    writer.close().unwrap();
    File::open(path).unwrap()
}

fn rendered(notebook: Notebook, tally: Tally) -> String {
    let rejects: Vec<String> =
        tally.rejects.iter().map(|reject| format!("row {}, {}: {}", reject.line, reject.field.as_deref().unwrap_or("-"), reject.reason)).collect();
    let notes: String = tally.notes.iter().map(|note| format!("note: {note}\n")).collect();
    format!("{}accepted {}, rejected {}, empty {}\n{}\n{notes}", notebook.0, tally.accepted, tally.rejected, tally.empty_cells, rejects.join("\n"))
}

fn of_stream(bytes: &[u8], mapping: Option<&Mapping>) -> Result<String, FormatError> {
    let (mut rows, mut notebook, mut tally) = (ArrowRows::new(bytes, mapping)?, Notebook::default(), Tally::default());
    while rows.read(&mut Output { now: 0, sink: &mut notebook, tally: &mut tally })? {}
    Ok(rendered(notebook, tally))
}

fn of_file(file: File, mapping: Option<&Mapping>) -> Result<String, FormatError> {
    let (mut rows, mut notebook, mut tally) = (ParquetRows::new(file, mapping)?, Notebook::default(), Tally::default());
    while rows.read(&mut Output { now: 0, sink: &mut notebook, tally: &mut tally })? > 0 {}
    Ok(rendered(notebook, tally))
}

#[test]
fn without_a_mapping_column_types_decide() {
    insta::assert_snapshot!(of_stream(&stream(&[table()]), None).unwrap());
}

#[test]
fn a_stream_and_a_file_read_alike() {
    let folder = tempfile::tempdir().unwrap();
    let batches = [table(), table()];
    let mapping = Mapping::parse("not_finite = \"skip\"\n[time]\ncolumn = \"at\"\n[[columns]]\ncolumn = \"lock\"\nrole = \"tag\"\n[[columns]]\ncolumn = \"flow\"\nunit = \"m3/s\"\n[[columns]]\ncolumn = \"turns\"\nrole = \"tag\"\n[[columns]]\ncolumn = \"list\"\n").unwrap();
    let from_stream = of_stream(&stream(&batches), Some(&mapping)).unwrap();
    assert_eq!(from_stream, of_file(parquet(folder.path(), &batches), Some(&mapping)).unwrap());
    insta::assert_snapshot!(from_stream);
    assert_eq!(look_arrow(&stream(&batches)[..], 4).unwrap(), look_parquet(parquet(folder.path(), &batches), 4).unwrap());
    assert_eq!(look_arrow(&stream(&batches)[..], 4).unwrap().rows[3][1], "osier");
}

#[test]
fn a_long_table_needs_no_mapping() {
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("time", Arc::new(StringArray::from(vec!["2026-05-01T09:00:00Z", "2026-05-01T09:00:00Z"]))),
        ("metric", Arc::new(StringArray::from(vec!["level", "flow"]))),
        ("value", Arc::new(Float64Array::from(vec![1.0, 2.0]))),
    ];
    insta::assert_snapshot!(of_stream(&stream(&[RecordBatch::try_from_iter(columns).unwrap()]), None).unwrap());
}

fn odd_table() -> RecordBatch {
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("at", Arc::new(TimestampMillisecondArray::from(vec![1_777_626_000_000, 1_774_747_800_000]))),
        ("received", Arc::new(TimestampMillisecondArray::from(vec![1_777_626_000_000; 2]).with_timezone("UTC"))),
        ("id", Arc::new(FixedSizeBinaryArray::try_from_iter([[7u8; 16], [0xab; 16]].into_iter()).unwrap())),
        ("level", Arc::new(Float64Array::from(vec![1.0, 2.0]))),
        ("clock", Arc::new(Time64MicrosecondArray::from(vec![1, 2]))),
        ("took", Arc::new(DurationSecondArray::from(vec![1, 2]))),
        (
            "pair",
            Arc::new(StructArray::from(vec![(
                Arc::new(Field::new("a", DataType::Int64, false)),
                Arc::new(Int64Array::from(vec![1, 2])) as ArrayRef,
            )])),
        ),
        ("list", Arc::new(ListArray::from_iter_primitive::<Int32Type, _, _>([Some(vec![Some(1)]), None]))),
    ];
    let batch = RecordBatch::try_from_iter(columns).unwrap();
    // The name of the type says which bytes are a UUID.
    let is_uuid = [("ARROW:extension:name".to_owned(), "arrow.uuid".to_owned())];
    let mut fields: Vec<Field> = batch.schema().fields().iter().map(|field| Field::clone(field)).collect();
    fields[2] = fields[2].clone().with_metadata(is_uuid);
    let schema = Schema::new(fields);
    RecordBatch::try_new(Arc::new(schema), batch.columns().to_vec()).unwrap()
}

#[test]
fn empty_columns_are_noted_and_local_times_need_a_zone() {
    let bytes = stream(&[odd_table()]);
    assert!(of_stream(&bytes, None).unwrap_err().to_string().contains("times in `at` have no offset from UTC: state their zone"));
    // A zone alone is enough; the second instant lies in the hour that the clocks skip.
    let zone = Mapping::parse("[time]\nzone = \"Europe/Lisbon\"\n").unwrap();
    insta::assert_snapshot!(of_stream(&bytes, Some(&zone)).unwrap());
    assert_eq!(look_arrow(&bytes[..], 4).unwrap().notes.len(), 5);
}

#[test]
fn foreign_bytes_are_an_error() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("x");
    std::fs::write(&path, "time,level\n").unwrap();
    let errors = [
        of_stream(b"", None).unwrap_err().to_string(),
        of_stream(b"time,level\n", None).unwrap_err().to_string(),
        of_file(File::open(&path).unwrap(), None).unwrap_err().to_string(),
        of_stream(&stream(&[table()]), Some(&Mapping::parse("[[columns]]\ncolumn = \"levl\"\n").unwrap())).unwrap_err().to_string(),
    ];
    insta::assert_snapshot!(errors.join("\n"));
    let whole = stream(&[table()]);
    for end in (0..whole.len()).step_by(37) {
        let _ = of_stream(&whole[..end], None);
    }
}

/// A sink that remembers its series, as a batch of the store does.
#[derive(Default)]
struct Remembering {
    series: Vec<(String, Vec<(String, String)>)>,
    last: Option<KnownSeries>,
    points: Vec<(usize, Nanos, String)>,
    named: usize,
}

impl PointSink for Remembering {
    fn accept(&mut self, point: PointRef<'_>) -> Result<(), Refusal> {
        self.named += 1;
        let own = (point.metric.to_owned(), point.tags.iter().map(|(key, value)| ((*key).to_owned(), (*value).to_owned())).collect());
        let at = self.series.iter().position(|known| *known == own).unwrap_or_else(|| {
            self.series.push(own);
            self.series.len() - 1
        });
        self.last = Some(KnownSeries(at as u32));
        self.points.push((at, point.time, format!("{:?}", point.value)));
        Ok(())
    }

    fn last_series(&self) -> Option<KnownSeries> {
        self.last
    }

    fn accept_again(&mut self, series: KnownSeries, _: &str, time: Nanos, value: ValueRef<'_>) -> Result<(), Refusal> {
        self.points.push((series.0 as usize, time, format!("{value:?}")));
        Ok(())
    }
}

type Row = (Option<u8>, u8, bool, Option<i32>, Option<i32>);

/// The same rows with texts as texts, as dictionaries, or with a tag that has no numbers, so that every row names its series.
fn rows_as(rows: &[Row], form: u8) -> Vec<u8> {
    let locks: Vec<Option<String>> = rows.iter().map(|(lock, ..)| lock.map(|lock| format!("lock-{lock}"))).collect();
    let sides: Vec<Option<&str>> = rows.iter().map(|(_, side, ..)| Some(["up", "down", ""][usize::from(*side % 3)])).collect();
    let lock: ArrayRef = match form {
        0 => Arc::new(StringArray::from(locks)),
        _ => Arc::new(locks.iter().map(Option::as_deref).collect::<DictionaryArray<Int32Type>>()),
    };
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("at", Arc::new(TimestampMillisecondArray::from_iter_values((0..rows.len() as i64).map(|i| 1_777_626_000_000 + i)).with_timezone("UTC"))),
        ("lock", lock),
        ("side", Arc::new(StringArray::from(sides))),
        ("odd", Arc::new(BooleanArray::from_iter(rows.iter().map(|(_, _, odd, ..)| Some(*odd))))),
        ("level", Arc::new(Float64Array::from_iter(rows.iter().map(|(.., level, _)| level.map(f64::from))))),
        ("turns", Arc::new(Int64Array::from_iter(rows.iter().map(|(.., turns)| turns.map(i64::from))))),
    ];
    stream(&[RecordBatch::try_from_iter_with_nullable(columns.into_iter().map(|(name, column)| (name, column, true))).unwrap()])
}

fn remembered(bytes: &[u8], odd_is_a_tag: bool) -> Remembering {
    let mut text = "[time]\ncolumn = \"at\"\n[[columns]]\ncolumn = \"lock\"\nrole = \"tag\"\n[[columns]]\ncolumn = \"side\"\nrole = \"tag\"\n[[columns]]\ncolumn = \"level\"\n[[columns]]\ncolumn = \"turns\"\n".to_owned();
    if odd_is_a_tag {
        text += "[[columns]]\ncolumn = \"odd\"\nrole = \"tag\"\n";
    }
    let mapping = Mapping::parse(&text).unwrap();
    let (mut rows, mut sink, mut tally) = (ArrowRows::new(bytes, Some(&mapping)).unwrap(), Remembering::default(), Tally::default());
    while rows.read(&mut Output { now: 0, sink: &mut sink, tally: &mut tally }).unwrap() {}
    assert_eq!((tally.accepted as usize, tally.rejected), (sink.points.len(), 0));
    sink
}

proptest! {
    #[test]
    fn rows_that_share_a_series_name_it_once_and_every_form_of_texts_gives_the_same_points(
        rows in prop::collection::vec((prop::option::of(0u8..4), 0u8..3, any::<bool>(), prop::option::of(any::<i32>()), prop::option::of(any::<i32>())), 1..60),
    ) {
        let (plain, coded) = (remembered(&rows_as(&rows, 0), false), remembered(&rows_as(&rows, 1), false));
        let rendered = |sink: &Remembering| sink.points.iter().map(|(at, time, value)| (sink.series[*at].clone(), *time, value.clone())).collect::<Vec<_>>();
        prop_assert_eq!(rendered(&plain), rendered(&coded));
        prop_assert!(plain.named == plain.series.len() && coded.named == coded.series.len(), "each series is named once");
        // A truth value as a tag has no number of its own, so every point names its series: the points are the same but for that tag.
        let named = remembered(&rows_as(&rows, 1), true);
        prop_assert_eq!(named.named, named.points.len());
        let values = |sink: &Remembering| sink.points.iter().map(|(_, time, value)| (*time, value.clone())).collect::<Vec<_>>();
        prop_assert_eq!(values(&named), values(&plain));
    }
}
