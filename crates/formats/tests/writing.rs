//! Answers as bytes: what is written is read back, and no text of a tag or a label breaks a row.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use fenetre_core::{
    answer::{Answer, AnswerTime, Cost, Lines, PointLine, ReadPart, ReadSource, ShowAnswer, WindowLine},
    model::{LineTags, Value},
    time::{Grid, Span, TimeRange, Width, Windows, parse_rfc3339, zone},
};
use fenetre_formats::{
    document::{AnswerDocument, Form},
    mapping::tag_column,
    tables::{csv_parts, json_line_parts, write_csv, write_json_lines},
};
use proptest::prelude::*;

fn tags(pairs: &[(&str, &str)]) -> LineTags {
    pairs.iter().map(|(key, value)| ((*key).into(), (*value).into())).collect()
}

fn line(tags: LineTags, values: Vec<Option<Value>>) -> WindowLine {
    WindowLine { tags, filled: vec![], partial: vec![], times: None, values }
}

fn answer() -> Answer {
    let at = |text: &str| parse_rfc3339(text).unwrap();
    let lisbon = zone("Europe/Lisbon").unwrap();
    let range = TimeRange { start: at("2026-03-28T12:00:00Z"), end: at("2026-03-29T23:00:00Z") };
    let windows = Windows::cut(range, Grid { width: Width::Of(Span::parse("1d").unwrap()), stepping: None, starting: None }, &lisbon, 10).unwrap();
    let levels = vec![
        line(tags(&[("lock", "osier")]), vec![Some(Value::Number(312.5)), None]),
        WindowLine {
            filled: vec![1],
            partial: vec![1],
            ..line(tags(&[("lock", "marl"), ("side", "up, \"left\"")]), vec![Some(Value::Number(0.1)), Some(Value::Number(1e21))])
        },
    ];
    let gate = vec![PointLine {
        metric: "gate".into(),
        unit: None,
        tags: tags(&[("lock", "osier")]),
        times: vec![at("2026-03-29T00:30:00Z"), at("2026-03-29T01:30:00.25Z")],
        values: vec![Value::Word("open".into()), Value::Word("jam\nmed".into())],
    }];
    let shows = vec![
        ShowAnswer { label: "mean of level".into(), unit: Some("cm".into()), lines: Lines::Windows(levels) },
        ShowAnswer { label: "points of gate".into(), unit: None, lines: Lines::Points(gate) },
    ];
    let cost = Cost { series: 3, blocks_skipped: 7, blocks_summarised: 1, blocks_decoded: 2, points_read: 99, windows_read: 12 };
    let part = |start, end, source| ReadPart { what: "mean of level".to_owned(), range: TimeRange { start, end }, source, why: None };
    let hour = Span::exact(3_600_000_000_000);
    let parts =
        vec![part(range.start, range.start + hour.nanos, ReadSource::Level(hour)), part(range.start + hour.nanos, range.end, ReadSource::Points)];
    Answer { now: range.end, zone: lisbon, time: AnswerTime::Windows(windows), shows, notes: vec!["a note".into()], parts, cost }
}

fn csv_of(document: &AnswerDocument) -> String {
    let mut out = Vec::new();
    write_csv(document, &mut out).unwrap();
    String::from_utf8(out).unwrap()
}

fn lines_of(document: &AnswerDocument) -> String {
    let mut out = Vec::new();
    write_json_lines(document, &mut out).unwrap();
    String::from_utf8(out).unwrap()
}

#[test]
fn an_answer_has_one_document_and_two_tables() {
    let document = AnswerDocument::of(answer());
    insta::assert_snapshot!("document", serde_json::to_string_pretty(&document).unwrap());
    insta::assert_snapshot!("csv", csv_of(&document));
    insta::assert_snapshot!("json_lines", lines_of(&document));
}

#[test]
fn a_moment_has_one_value_a_line_with_its_time() {
    let at = parse_rfc3339("2026-05-01T09:00:00Z").unwrap();
    let of_point = WindowLine { times: Some(vec![Some(at - 1_500_000_000)]), ..line(tags(&[("lock", "osier")]), vec![Some(Value::Number(3.0))]) };
    let missing = WindowLine { times: Some(vec![None]), ..line(tags(&[("lock", "marl")]), vec![None]) };
    let lines = Lines::Moments(vec![of_point, missing, line(tags(&[]), vec![Some(Value::Number(7.0))])]);
    let shows = vec![ShowAnswer { label: "level".into(), unit: None, lines }];
    let document = AnswerDocument::of(Answer { time: AnswerTime::Moments(vec![at]), shows, ..answer() });
    insta::assert_snapshot!("moment", csv_of(&document) + &lines_of(&document) + &serde_json::to_string(&document.shows).unwrap());
}

/// Points of several metrics: of one lock at different instants, of another of one metric alone.
fn beside() -> AnswerDocument {
    let at = |second: i64| parse_rfc3339("2026-05-01T09:00:00Z").unwrap() + second * 1_000_000_000;
    let line = |metric: &str, unit: Option<&str>, lock: &str, points: &[(i64, Value)]| PointLine {
        metric: metric.into(),
        unit: unit.map(str::to_owned),
        tags: tags(&[("lock", lock), ("time", "of a tag")]),
        times: points.iter().map(|(second, _)| at(*second)).collect(),
        values: points.iter().map(|(_, value)| value.clone()).collect(),
    };
    let number = Value::Number;
    let lines = vec![
        line("level", Some("cm"), "osier", &[(0, number(312.5)), (60, number(313.0)), (120, number(313.5))]),
        line("level", Some("cm"), "marl", &[(0, number(210.0))]),
        line("flow", Some("m3/s"), "osier", &[(60, number(4.5)), (90, number(4.25))]),
        line("gate", None, "osier", &[(0, Value::Word("open".into()))]),
    ];
    let shows = vec![ShowAnswer { label: "points of level, flow, gate".into(), unit: None, lines: Lines::Points(lines) }];
    AnswerDocument::of(Answer { shows, ..answer() })
}

#[test]
fn points_of_several_metrics_stand_side_by_side() {
    let document = beside();
    insta::assert_snapshot!("beside", csv_of(&document) + &lines_of(&document));
}

#[test]
fn several_moments_have_a_row_each() {
    let at = parse_rfc3339("2026-05-01T09:00:00Z").unwrap();
    let times = Some(vec![Some(at - 1_000_000_000), None]);
    let of_points = WindowLine { times, partial: vec![1], ..line(tags(&[("lock", "osier")]), vec![Some(Value::Number(3.0)), None]) };
    let computed = line(tags(&[]), vec![Some(Value::Number(7.0)), Some(Value::Number(8.0))]);
    let show = |label: &str, line| ShowAnswer { label: label.into(), unit: None, lines: Lines::Moments(vec![line]) };
    let shows = vec![show("level", of_points), show("max of (level) overall", computed)];
    let document = AnswerDocument::of(Answer { time: AnswerTime::Moments(vec![at, at + 3_600_000_000_000]), shows, ..answer() });
    insta::assert_snapshot!("moments", csv_of(&document) + &lines_of(&document));
}

#[test]
fn parts_are_the_whole() {
    let whole_answers = [AnswerDocument::of(answer()), beside()];
    whole_answers.into_iter().for_each(parts_make);
}

fn parts_make(document: AnswerDocument) {
    let whole = |parts: &mut dyn Iterator<Item = std::io::Result<Vec<u8>>>| String::from_utf8(parts.flat_map(Result::unwrap).collect()).unwrap();
    assert_eq!(whole(&mut csv_parts(document.clone())), csv_of(&document));
    assert_eq!(whole(&mut json_line_parts(document.clone())), lines_of(&document));
}

#[test]
fn a_day_with_a_clock_change_has_both_offsets() {
    let document = AnswerDocument::of(answer());
    assert_eq!(document.windows.starts, ["2026-03-28T00:00:00+00:00", "2026-03-29T00:00:00+00:00"]);
    assert_eq!(document.windows.ends, ["2026-03-29T00:00:00+00:00", "2026-03-30T00:00:00+01:00"]);
    assert_eq!(document.windows.partial, [0]);
}

#[test]
fn a_stored_document_round_trips() {
    let document = AnswerDocument::of(answer());
    let text = serde_json::to_string(&document).unwrap();
    assert_eq!(serde_json::from_str::<AnswerDocument>(&text).unwrap(), document);
    assert_eq!((document.shows[0].form, document.shows[1].form), (Form::Windows, Form::Points));
}

#[test]
fn nothing_is_a_header_and_no_rows() {
    let document = AnswerDocument::of(Answer { shows: vec![], ..answer() });
    assert_eq!(csv_of(&document), "time,metric,value,unit\n");
    assert_eq!(lines_of(&document), "");
}

proptest! {
    #[test]
    fn labels_and_tags_round_trip_through_csv_and_json_lines(label in any::<String>(), key in prop_oneof!["[a-z]{1,8}", Just("value".to_owned()), Just("tag:time".to_owned())], value in any::<String>(), number in -1e12f64..1e12) {
        let mut plain = answer();
        plain.shows.truncate(1);
        plain.shows[0].label.clone_from(&label);
        plain.shows[0].lines = Lines::Windows(vec![line(tags(&[(&key, &value)]), vec![Some(Value::Number(number)), None])]);
        let document = AnswerDocument::of(plain);
        let text = csv_of(&document);
        let mut reader = csv::Reader::from_reader(text.as_bytes());
        let header = reader.headers().unwrap().clone();
        let column = |name: &str| header.iter().position(|found| found == name).unwrap();
        let rows: Vec<csv::StringRecord> = reader.records().map(Result::unwrap).collect();
        prop_assert_eq!(rows.len(), 2);
        prop_assert_eq!(&rows[0][column("metric")], label.as_str());
        prop_assert_eq!(&rows[0][column(&tag_column(&key))], value.as_str());
        prop_assert_eq!(rows[0][column("value")].parse::<f64>().unwrap().to_bits(), number.to_bits());
        prop_assert_eq!(&rows[1][column("value")], "");
        let first: serde_json::Value = serde_json::from_str(lines_of(&document).lines().next().unwrap()).unwrap();
        prop_assert_eq!(first["metric"].as_str().unwrap(), label.as_str());
        prop_assert_eq!(first["tags"][&key].as_str().unwrap(), value.as_str());
        prop_assert_eq!(first["value"].as_f64().unwrap().to_bits(), number.to_bits());
    }
}
