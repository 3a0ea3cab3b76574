//! What is read, how it is printed, and the errors of invalid queries.

mod laws;
mod wrong;

use std::fmt::Write as _;

use super::*;

const RIGHT: [&str; 24] = [
    r#"show mean of level where reach = "upper" over last 24h per 15m"#,
    "# busiest\nshow max of flow by reach , lock over 2026-03-25 to 2026-04-02T09:00 per 1d zone \"Europe/Lisbon\"",
    r#"show count of gate where lock in ("osier","marl") and side != "down" overall"#,
    r#"show last of velmar::level where 'by' not in ("a") over since yesterday per auto"#,
    "show points of 'odd name' over now - 2h to now",
    "show sum of flow show first of flow as \"earliest \\u00e9\\n\" over PT90M to now",
    "show min of level over 2026-05-01T09:00:00+01:00 to 2026-05-01T10:00:00Z",
    "show points of level over today to now zone \"UTC\"",
    "show mean of level over 2026-05 to 2026-06 - 1d per 2w",
    "show max of (growth of boats) by reach over 2026-05 per 1h",
    "let failed = growth of gate_commands where outcome in (\"refused\", \"timeout\") by reach\nlet all = growth of gate_commands by reach\nshow failed / all * 100 as \"failed\" unit \"%\" show (failed - all) / 2 over yesterday per 1h gaps 0",
    "show growth of pump_energy by reach over last 14d per 8h starting 06:00 gaps hold",
    "show p99.9 of lockage_time 1w earlier by lock top 5 by max keeping >= 1.5e-3 in \"min\"",
    "show level where lock = \"osier\" at 2026-05-01T09:00 taking before within 10m zone \"UTC\"",
    "show mean of (water_temp) by reach at now within 30m",
    "show points of battery where lock matches \"a.*|w.*\" and value < -3 over last 1h from raw",
    "show mean of level where not (lock = \"a\" or lock = \"b\" and has side) or lacks reach over last 1h",
    "show time_in(\"open\") of gate where value = \"odd\" over last 1h",
    "show -a * (b - c) - -3 + clamp(mean of level by lock, -5, 5) at now",
    "show a - (b - c) / (d / e) * -(f + g) at yesterday",
    "show smooth(share(rate of boats by reach, lock), 3) over last 1d per 1h stepping 10m gaps line",
    "show top top 3 show bottom unit \"x\" show unit show value at now",
    "over last 1h show mean of level",
    "show mean of level gaps 1 per 5m zone \"UTC\" over last 1h",
];

#[test]
fn right_queries_are_printed_in_one_layout() {
    let mut printed = String::new();
    for text in RIGHT.iter().filter(|text| !text.contains("PT90M") && !text.starts_with("over")) {
        let query = parse(text).unwrap_or_else(|error| panic!("{}", error.render(text)));
        let canonical = format(&query);
        assert_eq!(parse(&canonical).unwrap(), query, "{canonical}");
        assert_eq!(format(&parse(&canonical).unwrap()), canonical);
        let _ = writeln!(printed, "{text}\n---\n{canonical}");
    }
    insta::assert_snapshot!(printed);
}

#[test]
fn the_json_form_is_the_tree_without_places() {
    let text = "let all = rate of boats by reach\nshow all / 2 as \"half\" keeping > 0 top 3 by max over last 1d per 1h starting 06:00 gaps 0";
    let query = parse(text).unwrap();
    insta::assert_snapshot!(serde_json::to_string_pretty(&query).unwrap());
    let unknown = r#"{"shows":[{"expr":{"number":1},"colour":"red"}]}"#;
    assert!(serde_json::from_str::<Query>(unknown).unwrap_err().to_string().contains("colour"));
    // What no text can say is refused where it is read back.
    let odd = r#"{"shows":[{"expr":{"selection":{"metric":{"metric":"it's"}}}}]}"#;
    assert!(normal(&serde_json::from_str(odd).unwrap()).is_err());
}

#[test]
fn spans_are_right_after_multibyte_characters() {
    let text = "show mean of 'Pegelstände' wehre x = \"1\"";
    insta::assert_snapshot!(parse(text).unwrap_err().render(text), @r#"
    expected `over …`, another `show`, or the end, found `wehre`
      |
    1 | show mean of 'Pegelstände' wehre x = "1"
      |                            ^^^^^
      = did you mean `where`?
    "#);
}

#[test]
fn a_frame_or_a_condition_can_come_alone() {
    let frame = parse_frame("over last 7d per 1h").unwrap();
    assert_eq!(frame.to_text(), "over last 7d per 1h");
    assert_eq!(parse_frame("at now within 5m").unwrap().to_text(), "at now within 5m");
    assert_eq!(parse_frame("").unwrap(), Frame::default());
    assert!(parse_frame("show mean of level").is_err());
    assert_eq!(parse_condition("a = \"1\" and not b != \"2\"").unwrap().to_text(), "a = \"1\" and not b != \"2\"");
    assert!(parse_condition("a = \"1\" by b").is_err());
}

#[test]
fn every_reducer_and_function_parses_by_name() {
    for word in REDUCER_WORDS {
        assert_eq!(Reducer::from_word(word).unwrap().word(), word);
    }
    for word in ["p1", "p99.9", "p99.999", "p2.5"] {
        assert_eq!(Reducer::from_word(word).unwrap().to_string(), word);
    }
    assert_eq!(Reducer::from_word("p50").unwrap().word(), "median");
    assert_eq!(["p0", "p100", "p99.9999", "p", "p-1", "p5."].map(Reducer::from_word), [None, None, None, None, None, None]);
    for function in Function::ALL {
        assert!(function.usage().starts_with(function.as_str()));
    }
}
