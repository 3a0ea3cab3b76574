//! Answers as Arrow streams and Parquet files: what is written is read back.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use arrow_array::{
    Array, Float64Array, RecordBatch, StringArray, TimestampNanosecondArray,
    cast::AsArray,
    types::{Int32Type, TimestampNanosecondType},
};
use arrow_ipc::reader::StreamReader;
use fenetre_columnar::{write_arrow, write_parquet};
use fenetre_core::model::Value;
use fenetre_formats::document::{AnswerDocument, CostDocument, Form, LineDocument, ShowDocument, WindowsDocument};
use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;

fn answer(windows: usize) -> AnswerDocument {
    let time = |at: usize| format!("2026-05-{:02}T00:00:00Z", 1 + at % 30);
    let line = |lock: &str, value: Option<Value>| LineDocument {
        tags: [("lock".to_owned(), lock.to_owned())].into(),
        metric: None,
        unit: None,
        times: None,
        filled: vec![],
        partial: vec![],
        values: vec![value; windows],
    };
    let words = LineDocument { tags: [("gate".to_owned(), "g1".to_owned())].into(), ..line("", Some(Value::Word("open".into()))) };
    let show =
        |label: &str, unit: Option<&str>, lines| ShowDocument { label: label.to_owned(), unit: unit.map(str::to_owned), form: Form::Windows, lines };
    AnswerDocument {
        asked_at: time(0),
        zone: "UTC".to_owned(),
        from: time(0),
        to: time(1),
        moments: vec![],
        windows: WindowsDocument { starts: (0..windows).map(time).collect(), ends: (1..=windows).map(time).collect(), ..WindowsDocument::default() },
        shows: vec![show("level", Some("cm"), vec![line("osier", Some(Value::Number(2.5))), line("marl", None)]), show("gate", None, vec![words])],
        notes: vec![],
        sources: vec![],
        cost: CostDocument::default(),
    }
}

#[test]
fn rows_come_back_with_their_tags_times_and_words() {
    let mut bytes = Vec::new();
    write_arrow(&answer(2), &mut bytes).unwrap();
    let batches: Vec<_> = StreamReader::try_new(bytes.as_slice(), None).unwrap().map(Result::unwrap).collect();
    let [batch] = batches.as_slice() else { panic!() };
    let names: Vec<&str> = batch.schema_ref().fields().iter().map(|field| field.name().as_str()).collect();
    assert_eq!(names, ["time", "end", "metric", "gate", "lock", "value", "word", "unit"]);
    let word = |name: &str, row: usize| {
        let column = batch.column_by_name(name).unwrap().as_dictionary::<Int32Type>();
        let values = column.values().as_any().downcast_ref::<StringArray>().unwrap();
        column.key(row).map(|key| values.value(key).to_owned())
    };
    assert_eq!((word("metric", 0), word("lock", 2), word("lock", 4)), (Some("level".into()), Some("marl".into()), None));
    assert_eq!((word("unit", 0), word("unit", 5)), (Some("cm".into()), None));
    let values: &Float64Array = batch.column_by_name("value").unwrap().as_primitive();
    assert_eq!(values.iter().collect::<Vec<_>>(), [Some(2.5), Some(2.5), None, None, None, None]);
    let words: &StringArray = batch.column_by_name("word").unwrap().as_string();
    assert_eq!((words.is_null(0), words.value(5)), (true, "open"));
    let starts: &TimestampNanosecondArray = batch.column_by_name("time").unwrap().as_primitive::<TimestampNanosecondType>();
    assert_eq!(starts.value(1) - starts.value(0), 86_400_000_000_000);
}

#[test]
fn many_rows_are_several_batches_and_none_is_a_stream_too() {
    let rows = |windows: usize| {
        let mut bytes = Vec::new();
        write_arrow(&answer(windows), &mut bytes).unwrap();
        StreamReader::try_new(bytes.as_slice(), None).unwrap().map(|batch| batch.unwrap().num_rows()).collect::<Vec<_>>()
    };
    assert_eq!(rows(30_000), [65_536, 24_464]);
    assert_eq!(rows(0), [0usize; 0]);
}

#[test]
fn a_parquet_file_holds_the_rows_of_the_stream() {
    let answer = answer(30_000);
    let (mut stream, mut file) = (Vec::new(), tempfile::tempfile().unwrap());
    write_arrow(&answer, &mut stream).unwrap();
    write_parquet(&answer, &mut file).unwrap();
    let streamed: Vec<RecordBatch> = StreamReader::try_new(stream.as_slice(), None).unwrap().map(Result::unwrap).collect();
    let reader = ParquetRecordBatchReaderBuilder::try_new(file).unwrap().with_batch_size(65_536).build().unwrap();
    let filed: Vec<RecordBatch> = reader.map(Result::unwrap).collect();
    let rows =
        |batches: &[RecordBatch]| batches.iter().map(|batch| (batch.num_rows(), value_sum(batch))).fold((0, 0.0), |a, b| (a.0 + b.0, a.1 + b.1));
    assert_eq!(rows(&streamed), rows(&filed));
    let fields =
        |batch: &RecordBatch| batch.schema().fields().iter().map(|field| (field.name().clone(), field.data_type().clone())).collect::<Vec<_>>();
    assert_eq!(fields(&streamed[0]), fields(&filed[0]));
}

fn value_sum(batch: &RecordBatch) -> f64 {
    let values: &Float64Array = batch.column_by_name("value").unwrap().as_primitive();
    values.iter().flatten().sum()
}
