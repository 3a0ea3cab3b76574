//! What each format makes of good and bad bodies: every row is either a point or a reject with its line and field.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::fmt::Write as _;

use fenetre_core::{
    model::{PointRef, PointSink, Refusal, ValueRef},
    time::{Nanos, SECOND, format_utc},
};
use fenetre_formats::{
    Format,
    csv::{Mapping, ValueColumn},
    read,
};
use proptest::prelude::*;

const NOW: Nanos = 1_790_000_000 * SECOND;

/// Writes down what it is given; refuses what the store would.
#[derive(Default)]
struct Notebook(String);

impl PointSink for Notebook {
    fn accept(&mut self, point: PointRef<'_>) -> Result<(), Refusal> {
        if matches!(point.value, ValueRef::Number(number) if !number.is_finite()) {
            return Err(Refusal::of(point.metric, "is not finite"));
        }
        let _ = writeln!(self.0, "  {} {} {:?} {:?}", format_utc(point.time), point.metric, point.tags, point.value);
        Ok(())
    }
}

fn told(format: &Format, body: &[u8]) -> String {
    let mut notebook = Notebook::default();
    let mut out = format!("> {}\n", String::from_utf8_lossy(body).trim_end().replace('\n', "\n> "));
    match read(format, body, NOW, &mut notebook) {
        Err(error) => {
            let _ = writeln!(out, "  error: {error}");
        }
        Ok(tally) => {
            out.push_str(&notebook.0);
            let _ = writeln!(out, "  accepted {}, rejected {}, empty {}", tally.accepted, tally.rejected, tally.empty_cells);
            for reject in tally.rejects {
                let _ = writeln!(out, "  line {}, {}: {}", reject.line, reject.field.as_deref().unwrap_or("-"), reject.reason);
            }
            for note in tally.notes {
                let _ = writeln!(out, "  note: {note}");
            }
        }
    }
    out
}

#[test]
fn json_documents() {
    let bodies = [
        r#"{"metric": "level", "tags": {"lock": "osier"}, "time": "2026-05-01T09:00:00Z", "value": 312.5}"#,
        r#"{"tags": {"lock": "osier"}, "values": {"flow": 4, "gate": "open", "jammed": true}}"#,
        "[\n{\"metric\": \"level\", \"value\": 1},\n{\"metric\": \"level\"},\n{\"value\": 1}, 7]",
        "[]",
        "{\"metric\": \"level\", \"value\": 1",
        "level 312",
        "",
    ];
    insta::assert_snapshot!(bodies.map(|body| told(&Format::Json, body.as_bytes())).join("\n"));
}

#[test]
fn json_lines() {
    let body = br#"{"metric": "level", "value": 312.5}

{"metric": "level", "value": null}
{"metric": "level", "valeu": 1}
{"metric": "level", "value": 1, "values": {}}
{"metric": 3, "value": 1}
{"values": {}}
{"value": 1, "values": {"a": 1}}
{"metric": "level", "value": [1]}
{"metric": "level", "value": 1e999}
{"metric": "level", "value": 1, "time": 1790000000}
{"metric": "level", "value": 1, "time": "yesterday"}
{"metric": "level", "value": 1, "tags": {"pump": 1}}
{"metric": "level", "value": 1, "tags": ["pump"]}
{"metric": "level"
not json
{"metric": "caf\u00e9", "value": 2}"#;
    insta::assert_snapshot!(told(&Format::JsonLines, body));
    insta::assert_snapshot!(told(&Format::JsonLines, b"{\"metric\": \"\xff\", \"value\": 1}\n{\"metric\": \"a\", \"value\": 1}"));
}

fn mapping() -> Mapping {
    Mapping {
        time: Some("at".into()),
        tags: vec!["lock".into()],
        values: vec![ValueColumn::parse("level_cm=level", false), ValueColumn::parse("gate", true)],
        constants: vec![("reach".into(), "upper".into())],
    }
}

#[test]
fn tables() {
    let bodies: [&[u8]; 12] = [
        b"at,lock,level_cm,gate,note\n2026-05-01T09:00:00Z,osier,312.5,open,x\n2026-05-01T09:01:00Z,,313,,x\n",
        b"\xef\xbb\xbfat,lock,level_cm,gate\r\n2026-05-01T09:00:00Z,\"osier, new\",1,open\r\n",
        b"at,lock,level_cm,gate\n2026-05-01T09:00:00Z,osier\n,osier,1,open\nnine,osier,1,open\n2026-05-01T09:00:00Z,osier,high,open\n2026-05-01T09:00:00Z,osier,NaN,open\n2026-05-01T09:00:00Z,osier,1e999,open\n2026-05-01T09:00:00Z,os\xffer,1,open\n",
        b"at,lock,level_cm,gate\n",
        b"",
        b"\n",
        b"at,lock,levelcm,gate\n",
        b"at,lock,lock,gate\n",
        b"a\xfft,lock\n",
        b"at;lock;level_cm;gate\n",
        b"at,lock,level_cm,gate\n\"2026-05-01T09:00:00Z,osier,1,open\n",
        b"at,lock,level_cm,gate\n\0\0\0,\0,\0,\0\n",
    ];
    insta::assert_snapshot!(bodies.map(|body| told(&Format::Csv(mapping()), body)).join("\n"));
}

#[test]
fn lines_are_counted_over_blank_lines_and_line_ends_in_cells() {
    let body = b"at,lock,level_cm,gate\r\n\r\n\r\nnoon,osier,1,open\r\n2026-05-01T09:00:00Z,\"os\nier\",x,open\r\n\r\nnoon,osier,1,open\r\n";
    let tally = read(&Format::Csv(mapping()), body, NOW, &mut Notebook::default()).unwrap();
    assert_eq!(tally.rejects.iter().map(|reject| reject.line).collect::<Vec<_>>(), [4, 5, 8]);
}

#[test]
fn a_table_without_a_time_is_of_now_and_says_so() {
    let plain =
        |values: &[&str]| Format::Csv(Mapping { values: values.iter().map(|v| ValueColumn::parse(v, false)).collect(), ..Mapping::default() });
    insta::assert_snapshot!(told(&plain(&["level"]), b"level\n3\n"));
    insta::assert_snapshot!(told(&plain(&["level"]), b"time,level\n2026-05-01T09:00:00Z,3\n"));
    insta::assert_snapshot!(told(&plain(&[]), b"time,level\n2026-05-01T09:00:00Z,3\n"));
}

proptest! {
    #[test]
    fn tables_with_and_without_quotes_read_alike(rows in prop::collection::vec(prop::collection::vec("[0-9a-zé ]{0,6}", 2..6), 0..12), ends in any::<bool>()) {
        let end = if ends { "\r\n" } else { "\n" };
        let table = |quote: &str| -> Vec<u8> {
            let row = |cells: &Vec<String>| cells.iter().map(|cell| format!("{quote}{cell}{quote}")).collect::<Vec<_>>().join(",") + end;
            ("at,lock,level_cm,gate".to_owned() + end + &rows.iter().map(row).collect::<String>()).into_bytes()
        };
        let format = Format::Csv(mapping());
        let what = |quote: &str| told(&format, &table(quote)).lines().filter(|line| !line.starts_with('>')).collect::<Vec<_>>().join("\n");
        prop_assert_eq!(what(""), what("\""));
    }

    #[test]
    fn any_bytes_are_read_or_refused_and_every_count_is_told(body in prop::collection::vec(any::<u8>(), 0..300), table in "at,lock,level_cm,gate\n([0-9a-z,\"\n]{0,80})") {
        for (format, bytes) in [(Format::Json, &body[..]), (Format::JsonLines, &body[..]), (Format::Csv(mapping()), &body[..]), (Format::Csv(mapping()), table.as_bytes())] {
            let mut notebook = Notebook::default();
            if let Ok(tally) = read(&format, bytes, NOW, &mut notebook) {
                prop_assert_eq!(tally.accepted as usize, notebook.0.lines().count());
                prop_assert_eq!(tally.rejects.len() as u64, tally.rejected.min(100));
            }
        }
    }
}
