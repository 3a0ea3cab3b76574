//! What each format makes of good and bad bodies: every row is either a point or a reject with its line and field.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod notebook;

use fenetre_formats::{
    Format,
    mapping::{Column, Mapping, Role},
    read,
};
use notebook::{NOW, Notebook, rendered, rendered_with};
use proptest::prelude::*;

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
    insta::assert_snapshot!(bodies.map(|body| rendered(Format::Json, body.as_bytes())).join("\n"));
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
    insta::assert_snapshot!(rendered(Format::JsonLines, body));
    insta::assert_snapshot!(rendered(Format::JsonLines, b"{\"metric\": \"\xff\", \"value\": 1}\n{\"metric\": \"a\", \"value\": 1}"));
}

fn mapping() -> Mapping {
    let mut mapping = Mapping {
        columns: vec![Column::parse("lock", Role::Tag), Column::parse("level_cm=level", Role::Value), Column::parse("gate", Role::State)],
        tags: [("reach".to_owned(), "upper".to_owned())].into(),
        ..Mapping::default()
    };
    mapping.time.column = Some("at".into());
    mapping
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
    insta::assert_snapshot!(bodies.map(|body| rendered_with(Format::Csv, Some(mapping()), body)).join("\n"));
}

#[test]
fn lines_are_counted_over_blank_lines_and_line_ends_in_cells() {
    let body = b"at,lock,level_cm,gate\r\n\r\n\r\nnoon,osier,1,open\r\n2026-05-01T09:00:00Z,\"os\nier\",x,open\r\n\r\nnoon,osier,1,open\r\n";
    let tally = read(Format::Csv, Some(mapping()), body, NOW, &mut Notebook::default()).unwrap();
    assert_eq!(tally.rejects.iter().map(|reject| reject.line).collect::<Vec<_>>(), [4, 5, 8]);
}

#[test]
fn a_table_without_a_time_column_uses_the_current_time() {
    let plain = |columns: &[&str], body: &str| {
        let columns = columns.iter().map(|column| Column::parse(column, Role::Value)).collect();
        rendered_with(Format::Csv, Some(Mapping { columns, ..Mapping::default() }), body.as_bytes())
    };
    insta::assert_snapshot!(plain(&["level"], "level\n3\n"));
    insta::assert_snapshot!(plain(&["level"], "time,level\n2026-05-01T09:00:00Z,3\n"));
    insta::assert_snapshot!(plain(&[], "time,level\n2026-05-01T09:00:00Z,3\n"));
}

#[test]
fn tables_of_other_hands() {
    let parse = |text: &str| Some(Mapping::parse(text).unwrap());
    let comma = "missing = [\"NA\", \"--\"]\n[time]\ncolumn = \"Zeit\"\nformat = \"%d.%m.%Y %H:%M\"\nzone = \"Europe/Lisbon\"\n[[columns]]\ncolumn = \"Schleuse\"\nrole = \"tag\"\nname = \"lock\"\n[[columns]]\ncolumn = \"Pegel\"\nname = \"level\"\nunit = \"cm\"\nscale = 100.0\noffset = -5.0\n";
    let long = "[[columns]]\ncolumn = \"station\"\nrole = \"tag\"\n[[columns]]\ncolumn = \"parameter\"\nrole = \"metric\"\n[[columns]]\ncolumn = \"value\"\nrole = \"value\"\n";
    let all = "others = \"value\"\nempty = \"reject\"\nnot_finite = \"skip\"\n[time]\nformat = \"ms\"\n";
    let bare = "[table]\nskip_lines = 1\n[time]\ncolumn = \"column1\"\n[[columns]]\ncolumn = \"column2\"\nname = \"flow\"\n";
    let latin = format!("{comma}[table]\nencoding = \"windows-1252\"\n");
    insta::assert_snapshot!(
        [
            rendered_with(
                Format::Csv,
                parse(comma),
                "Zeit;Schleuse;Pegel\n01.05.2026 10:00;Osier;3,125\n01.05.2026 10:10;Osier;NA\n29.03.2026 01:30;Marl;1.203,5\n2026-05-01;Marl;1\n"
                    .as_bytes()
            ),
            rendered_with(
                Format::Csv,
                parse(long),
                b"time,station,parameter,value\n2026-05-01T09:00:00Z,7,flow,4.1\n2026-05-01T09:00:00Z,7,,4.1\n1777626000,7,turbidity,\n"
            ),
            rendered_with(Format::Tsv, parse(all), b"time\tflow\ttemp\n1777626000000\t1\tNaN\n1777626060000\t\t14.5\n"),
            rendered_with(Format::Csv, parse(bare), b"exported by hand\n2026-05-01T09:00:00Z,3.5\n2026-05-01T09:01:00Z,3.6\n"),
            rendered_with(Format::Csv, parse(&latin), b"Zeit;Schleuse;Pegel\n01.05.2026 10:00;M\xe4rl;3\n"),
            rendered_with(
                Format::Csv,
                parse("others = \"value\"\n"),
                b"sep=;\r\ntime;flow\r\n2026-05-01T09:00:00Z;3,5\r\n2026-05-01T09:01:00Z;x\r\n"
            ),
            rendered_with(Format::Csv, parse(bare), b"one line"),
            rendered_with(Format::Csv, parse(long), b"a,b\n"),
        ]
        .join("\n")
    );
}

#[test]
fn objects_of_any_form_by_a_mapping() {
    let mapping = Mapping::parse("[time]\ncolumn = \"ts\"\nformat = \"ms\"\n[[columns]]\ncolumn = \"site.lock\"\nrole = \"tag\"\nname = \"lock\"\n[[columns]]\ncolumn = \"pump\"\nrole = \"tag\"\n[[columns]]\ncolumn = \"readings.level\"\nname = \"level\"\nunit = \"cm\"\n[[columns]]\ncolumn = \"gate\"\nrole = \"state\"\n").unwrap();
    let lines = b"{\"ts\": 1777626000000, \"site\": {\"lock\": \"osier\"}, \"readings\": {\"level\": 312.5}, \"gate\": \"open\", \"x\": [1]}
{\"ts\": 1777626000000, \"site\": {\"lock\": \"osier\"}, \"pump\": 2, \"readings\": {\"level\": \"313\"}, \"gate\": true}
{\"ts\": null, \"gate\": \"open\"}
{\"ts\": 1777626000000, \"gate\": [1], \"readings\": {\"level\": {}}}
7
{\"ts\": ";
    insta::assert_snapshot!(rendered_with(Format::JsonLines, Some(mapping.clone()), lines));
    insta::assert_snapshot!(rendered_with(
        Format::Json,
        Some(mapping),
        b"[{\"ts\": 1777626000000, \"gate\": \"open\"},\n {\"ts\": \"soon\", \"gate\": \"open\"}]"
    ));
}

proptest! {
    #[test]
    fn tables_with_and_without_quotes_read_alike(rows in prop::collection::vec(prop::collection::vec("[0-9a-zé ]{0,6}", 2..6), 0..12), ends in any::<bool>()) {
        let end = if ends { "\r\n" } else { "\n" };
        let table = |quote: &str| -> Vec<u8> {
            let row = |cells: &Vec<String>| cells.iter().map(|cell| format!("{quote}{cell}{quote}")).collect::<Vec<_>>().join(",") + end;
            ("at,lock,level_cm,gate".to_owned() + end + &rows.iter().map(row).collect::<String>()).into_bytes()
        };
        let what = |quote: &str| rendered_with(Format::Csv, Some(mapping()), &table(quote)).lines().filter(|line| !line.starts_with('>')).collect::<Vec<_>>().join("\n");
        prop_assert_eq!(what(""), what("\""));
    }

    #[test]
    fn any_bytes_are_read_or_refused_and_counted(body in prop::collection::vec(any::<u8>(), 0..300), table in "at,lock,level_cm,gate\n([0-9a-z,\"\n]{0,80})") {
        for (format, bytes) in [(Format::Json, &body[..]), (Format::JsonLines, &body[..]), (Format::Csv, &body[..]), (Format::Csv, table.as_bytes())] {
            let mapping = (format == Format::Csv).then(mapping);
            let mut notebook = Notebook::default();
            if let Ok(tally) = read(format, mapping, bytes, NOW, &mut notebook) {
                prop_assert_eq!(tally.accepted as usize, notebook.points());
                prop_assert_eq!(tally.rejects.len() as u64, tally.rejected.min(100));
            }
        }
    }

    #[test]
    fn a_table_reads_the_same_in_parts_and_whole(rows in prop::collection::vec("[0-9a-z,\"\r\n]{0,12}\n?", 0..30), cuts in prop::collection::vec(any::<prop::sample::Index>(), 0..5)) {
        let table = format!("at,lock,level_cm,gate\n{}", rows.concat());
        // The dialect is a question of the beginning, which a long table shows in its first part.
        let mut mapping = mapping();
        mapping.table = fenetre_formats::mapping::Dialect { delimiter: Some(','), header: Some(true), decimal: Some('.'), ..Default::default() };
        prop_assert_eq!(notebook::in_parts(Format::Csv, Some(mapping.clone()), table.as_bytes(), &cuts), notebook::in_parts(Format::Csv, Some(mapping), table.as_bytes(), &[]));
    }
}
