//! Awkward input that once was read wrongly without a word: each is read right, or rejected with its place.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod notebook;

use fenetre_core::model::{Cause, Kind, PointRef, PointSink, Refusal};
use fenetre_formats::{Format, Output, Tally, mapping::Mapping, read};
use notebook::{NOW, Notebook, outcome, rendered, rendered_with};

fn mapping(text: &str) -> Mapping {
    Mapping::parse(text).unwrap()
}

/// What a body becomes, without the body.
fn points(format: Format, mapping: Option<&Mapping>, body: &str) -> String {
    let mut notebook = Notebook::default();
    let read = read(format, mapping.cloned(), body.as_bytes(), NOW, &mut notebook);
    outcome(&notebook, read)
}

#[test]
fn group_marks_of_numbers_are_read_as_thousands_or_rejected() {
    let by = mapping("[time]\ncolumn = \"at\"\n[[columns]]\ncolumn = \"level\"\n");
    let table = |cells: &[&str]| {
        let rows: Vec<String> = cells.iter().enumerate().map(|(at, cell)| format!("2026-05-01T09:0{at}:00Z;{cell}")).collect();
        points(Format::Csv, Some(&by), &format!("at;level\n{}\n", rows.join("\n")))
    };
    insta::assert_snapshot!([table(&["3,5", "1.234", "1.234,5", "1.2345,6", "3.5"]), table(&["3.5", "1,234", "12,34"])].join("\n"));
}

#[test]
fn a_quote_inside_a_cell_is_literal_and_an_unclosed_one_rejects_one_row() {
    let by = mapping("[[columns]]\ncolumn = \"size\"\nrole = \"tag\"\n[[columns]]\ncolumn = \"level\"\n");
    let rows = |count: usize, row: &str| row.repeat(count);
    let inches = format!("time,size,level\n{}", rows(3, "2026-05-01T09:00:00Z,3.5\",1\n"));
    let open = "time,size,level\n2026-05-01T09:00:00Z,a,1\n2026-05-01T09:01:00Z,\"b,2\n2026-05-01T09:02:00Z,c,3\n2026-05-01T09:03:00Z,d,4\n";
    insta::assert_snapshot!([points(Format::Csv, Some(&by), &inches), points(Format::Csv, Some(&by), open)].join("\n"));
    // The same in parts, and with more behind the quote than any row may have.
    let long = format!("{}{}", &open[..open.len() - "2026-05-01T09:03:00Z,d,4\n".len()], rows(600_000, "2026-05-01T09:03:00Z,d,4\n"));
    let (mut reader, mut tally, mut sink) = (Format::Csv.reader(Some(by)).unwrap(), Tally::default(), Counting::default());
    let (mut rest, mut from) = (Vec::new(), 0);
    while from < long.len() {
        let end = (from + (4 << 20)).min(long.len());
        rest.extend_from_slice(&long.as_bytes()[from..end]);
        let done = reader.read(&rest, end == long.len(), &mut Output { now: NOW, sink: &mut sink, tally: &mut tally }).unwrap();
        rest.drain(..done);
        from = end;
    }
    assert_eq!((tally.rejected, tally.rejects[0].line), (1, 3), "{:?}", tally.rejects);
    assert!(tally.rejects[0].reason.contains("is not closed within 8 MB"), "{:?}", tally.rejects);
    assert_eq!(tally.accepted, 600_002, "one before, and all behind");
}

#[derive(Default)]
struct Counting(u64);

impl PointSink for Counting {
    fn accept(&mut self, _: PointRef<'_>) -> Result<(), Refusal> {
        self.0 += 1;
        Ok(())
    }
}

#[test]
fn an_oversized_line_is_rejected_alone() {
    let by = mapping("[[columns]]\ncolumn = \"level\"\n");
    let body = format!("time,level\n2026-05-01T09:00:00Z,1\n{}\n2026-05-01T09:01:00Z,2\n", "x".repeat(20 << 20));
    let (mut reader, mut tally, mut sink) = (Format::Csv.reader(Some(by)).unwrap(), Tally::default(), Counting::default());
    let (mut rest, mut longest) = (Vec::new(), 0);
    for (at, part) in body.as_bytes().chunks(4 << 20).enumerate() {
        rest.extend_from_slice(part);
        longest = longest.max(rest.len());
        let is_last = (at + 1) * (4 << 20) >= body.len();
        let done = reader.read(&rest, is_last, &mut Output { now: NOW, sink: &mut sink, tally: &mut tally }).unwrap();
        rest.drain(..done);
    }
    assert_eq!((sink.0, tally.rejected, tally.rejects[0].line), (2, 1, 3));
    assert!(longest <= 16 << 20, "memory is bounded: {longest}");
}

#[test]
fn a_table_is_refused_past_the_column_limit() {
    let by = mapping("others = \"value\"\n");
    let table = |columns: usize| {
        let (names, cells): (Vec<String>, Vec<&str>) = (0..columns).map(|at| (format!("c{at}"), "1")).unzip();
        format!("time,{}\n2026-05-01T09:00:00Z,{}\n", names.join(","), cells.join(","))
    };
    let mut sink = Counting::default();
    read(Format::Csv, Some(by.clone()), table(19_999).as_bytes(), NOW, &mut sink).unwrap();
    assert_eq!(sink.0, 19_999);
    let message = read(Format::Csv, Some(by), table(20_000).as_bytes(), NOW, &mut sink).unwrap_err().to_string();
    assert!(message.contains("20001 columns; the maximum is 20000"), "{message}");
}

#[test]
fn a_lone_carriage_return_ends_a_line() {
    let by = mapping("[[columns]]\ncolumn = \"level\"\n");
    insta::assert_snapshot!(points(Format::Csv, Some(&by), "time;level\r2026-05-01T09:00:00Z;1\r2026-05-01T09:01:00Z;x\r"));
}

/// A sink that knows one metric as a state.
#[derive(Default)]
struct KnowsGate(Notebook);

impl PointSink for KnowsGate {
    fn accept(&mut self, point: PointRef<'_>) -> Result<(), Refusal> {
        self.0.accept(point)
    }

    fn kind_of(&self, metric: &str) -> Option<Kind> {
        (metric == "gate").then_some(Kind::State)
    }
}

#[test]
fn a_long_table_needs_no_mapping_and_words_make_states() {
    let body = "time,metric,host,le,value,unit,end,partial\n2026-05-01T09:00:00Z,wait,a,0.5,3,s,,\n2026-05-01T09:00:00Z,gate,a,,open,,,\n2026-05-01T09:00:00Z,pump,a,,on,,,\n";
    let mut sink = KnowsGate::default();
    let read = read(Format::Csv, Some(Mapping::default()), body.as_bytes(), NOW, &mut sink);
    insta::assert_snapshot!(outcome(&sink.0, read));
    // What a mapping says of a metric beforehand makes it a state as well.
    let by = mapping("[metrics.pump]\nkind = \"state\"\n");
    let exact = "time,metric,tag:unit,word,histogram\n2026-05-01T09:00:00Z,pump,left,on,\n2026-05-01T09:00:00Z,wait,,,\"{\"\"bounds\"\":[1],\"\"counts\"\":[2,3],\"\"sum\"\":4}\"\n2026-05-01T09:00:00Z,wait,,,{}\n";
    insta::assert_snapshot!(rendered_with(Format::Csv, Some(by), exact.as_bytes()));
}

#[test]
fn date_and_time_columns_make_one_instant() {
    let by = mapping(
        "[time]\ncolumn = \"day\"\ntime_of_day = \"clock\"\nformat = \"%d.%m.%Y %H:%M\"\nzone = \"Europe/Lisbon\"\n[[columns]]\ncolumn = \"level\"\n",
    );
    insta::assert_snapshot!(points(Format::Csv, Some(&by), "day,clock,level,time\n01.05.2026,14:05,1,x\n01.05.2026,,2,x\n01.05.2026,25:00,3,x\n"));
    // Whatever else a table takes for values, a column called `time` is none.
    let others = Mapping { others: fenetre_formats::mapping::Others::Value, ..by };
    assert!(!points(Format::Csv, Some(&others), "day,clock,level,time\n01.05.2026,14:05,1,5\n").contains(" time "));
}

#[test]
fn rejects_of_an_array_name_the_element_and_columns_count_from_its_start() {
    let body = r#"[{"metric": "level", "value": 1}, {"metric": "level"}, {"metric": "level", "valeu": 3}, {"metric": "level", "value": 1, "unit": "m", "end": "x", "partial": false}]"#;
    let mut notebook = Notebook::default();
    let tally = read(Format::Json, None, body.as_bytes(), NOW, &mut notebook).unwrap();
    let rejects: Vec<String> = tally.rejects.iter().map(|reject| format!("{}: {}", reject.place(), reject.reason)).collect();
    insta::assert_snapshot!(format!("{}{}", rejects.join("\n"), notebook.0));
    assert_eq!(body.find("\"valeu\"").unwrap() + "\"valeu\"".len(), 82, "the parser stops behind the key");
}

#[test]
fn histograms_of_openmetrics_are_whole_or_rejected() {
    let bodies = [
        // Label sets that alternate, other families in between, types that come first.
        "# TYPE wait histogram\n# TYPE boats counter\nwait_bucket{lock=\"a\",le=\"1\"} 1\nwait_bucket{lock=\"b\",le=\"1\"} 2\nboats_total 7\nwait_bucket{lock=\"a\",le=\"+Inf\"} 3\nwait_bucket{lock=\"b\",le=\"+Inf\"} 4\nlevel 5\nwait_sum{lock=\"a\"} 9\nboats_total{lock=\"a\"} 8\nwait_sum{lock=\"b\"} 8\n# EOF\n",
        // One bucket that cannot be read.
        "# TYPE wait histogram\nwait_bucket{le=\"one\"} 1\nwait_bucket{le=\"2\"} 2\nwait_bucket{le=\"+Inf\"} 3\nwait_sum 4\n# EOF\n",
        // One line that cannot be read, and a family that it does not concern.
        "# TYPE wait histogram\nwait_bucket{le=\"1\"} 1\nwait_bucket{le=\"2\"} x\nwait_bucket{le=\"+Inf\"} 3\nwait_sum 4\n# TYPE level gauge\nlevel 1\n# EOF\n",
        // Empty labels are none; samples come once; nine decimals of a second.
        "# TYPE level gauge\nlevel{lock=\"\"} 1 1777626000.123456789\nlevel 2 1777626000.123456789\nlevel{lock=\"a\",side=\"\"} 3\nlevel{side=\"\",lock=\"a\"} 4\n# EOF\n",
    ];
    insta::assert_snapshot!(bodies.map(|body| rendered(Format::OpenMetrics, body.as_bytes())).join("\n"));
}

/// A sink whose metrics have the unit that came first.
#[derive(Default)]
struct OneUnit(Notebook, std::collections::BTreeMap<String, String>);

impl PointSink for OneUnit {
    fn accept(&mut self, point: PointRef<'_>) -> Result<(), Refusal> {
        self.0.accept(point)
    }

    fn describe(&mut self, metric: &str, about: fenetre_core::model::About<'_>) -> fenetre_core::model::Described {
        let unit = about.unit.unwrap_or_default().to_owned();
        let known = self.1.entry(metric.to_owned()).or_insert_with(|| unit.clone());
        fenetre_core::model::Described { note: None, is_unfit: fenetre_core::units::fit(&unit, known) == fenetre_core::units::Fit::Unfit }
    }
}

#[test]
fn one_name_of_several_units_becomes_several_metrics_and_slash_and_colon_are_two_names() {
    // The standard's own example of a tracker (RFC 8428, section 5.1.4), abridged.
    let body = r#"[{"bn":"urn:dev:ow:10e2073a01080063","bt":1777626000,"u":"lon","v":24.3},
 {"u":"lat","v":60.07},{"t":60,"u":"lon","v":24.4},{"t":60,"u":"lat","v":60.08},
 {"bn":"","n":"dev/temp","u":"Cel","v":1},{"n":"dev:temp","u":"Cel","v":2}]"#;
    let mut sink = OneUnit::default();
    let read = read(Format::SenmlJson, None, body.as_bytes(), NOW, &mut sink);
    insta::assert_snapshot!(outcome(&sink.0, read));
}

#[test]
fn senml_packs_follow_the_standard() {
    let bodies = [
        r#"{"n":"level","v":3}"#,
        r#"[{"bver":5,"n":"level","v":3},{"bver":10,"n":"level","v":4}]"#,
        r#"[{"n":"level","v":3},{"bver":9,"n":"level","v":4}]"#,
        r#"[{"bver":5,"n":"level","v":3},{"bver":5,"n":"level","v":4}]"#,
        // A record of base fields alone is none that lacks a value; one of nothing is.
        r#"[{"bn":"lock:"},{},{"n":"level","v":4}]"#,
    ];
    insta::assert_snapshot!(bodies.map(|body| rendered(Format::SenmlJson, body.as_bytes())).join("\n"));
}

#[test]
fn exports_that_are_no_objects_or_hold_no_numbers_are_refused() {
    let nan = r#"{"resourceMetrics":[{"scopeMetrics":[{"metrics":[{"name":"level","gauge":{"dataPoints":[
        {"timeUnixNano":"1777626000000000000","asDouble":"NaN"},{"timeUnixNano":"1777626000000000000","asDouble":"Infinity"},
        {"timeUnixNano":"1777626000000000001","asDouble":"3.5"},{"timeUnixNano":"1777626000000000002","asDouble":"high"}]}}]}]}]}"#;
    insta::assert_snapshot!(["[]", "[{}]", "7", nan].map(|body| rendered(Format::OtlpJson, body.as_bytes())).join("\n"));
}

#[test]
fn second_60_is_a_leap_second_or_rejected() {
    let lines = "{\"metric\":\"level\",\"time\":\"2016-12-31T23:59:60Z\",\"value\":1}\n{\"metric\":\"level\",\"time\":\"2026-05-01T09:00:60Z\",\"value\":1}\n";
    let mut notebook = Notebook::default();
    let tally = read(Format::JsonLines, None, lines.as_bytes(), NOW, &mut notebook).unwrap();
    assert_eq!((tally.accepted, tally.rejects[0].cause), (1, Cause::Time));
    assert!(tally.rejects[0].reason.contains("there was no leap second then"), "{:?}", tally.rejects);
}
