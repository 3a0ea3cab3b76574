//! What is read, what it is printed as, and what wrong queries are told.

use std::fmt::Write as _;

use proptest::prelude::*;

use super::*;
use crate::time::Span;

const RIGHT: [&str; 9] = [
    r#"show mean of level where reach = "upper" over last 24h per 15m"#,
    "# busiest\nshow max of flow by reach , lock over 2026-03-25 to 2026-04-02T09:00 per 1d zone \"Europe/Lisbon\"",
    r#"show count of gate where lock in ("osier","marl") and side != "down" overall"#,
    r#"show last of velmar::level where 'by' not in ("a") over since yesterday per auto"#,
    "show points of 'odd name' over now - 2h to now",
    "show sum of flow show first of flow as \"earliest \\u00e9\\n\" over PT90M to now",
    "show min of level over 2026-05-01T09:00:00+01:00 to 2026-05-01T10:00:00Z",
    "show points of level over today to now zone \"UTC\"",
    "show mean of level over 2026-05 to 2026-06 - 1d per 2w",
];

const WRONG: [&str; 34] = [
    "",
    "   # nothing but a comment",
    "mean of level",
    "show",
    "show maen of level",
    "show p95 of level",
    "show level over last 1h",
    "show mean level",
    "show mean of",
    "show mean of \"level\"",
    "show mean of by",
    "show mean of level where",
    "show mean of level where reach",
    "show mean of level where reach = upper",
    "show mean of level where reach == \"upper\"",
    "show mean of level where reach = \"upper",
    "show mean of level where reach in \"upper\"",
    "show mean of level where reach in (\"upper\"",
    "show mean of level where reach not \"upper\"",
    "show mean of level where reach = \"a\" and",
    "show mean of level where reach = \"a\\q\"",
    "show mean of level by",
    "show mean of level by reach where lock = \"osier\"",
    "show mean of level over",
    "show mean of level over last",
    "show mean of level over last 24",
    "show mean of level over last 24hours",
    "show mean of level over 2026-05-01",
    "show mean of level over last 1h per",
    "show mean of level over last 1h pre 5m",
    "show mean of level per 5m over last 1h",
    "show mean of level over last 1h zone Europe/Lisbon",
    "show mean of level; drop",
    "show mean of 'level",
];

#[test]
fn right_queries_are_printed_in_one_layout() {
    let mut printed = String::new();
    for text in RIGHT.iter().filter(|text| !text.contains("PT90M")) {
        let query = parse(text).unwrap_or_else(|error| panic!("{}", error.render(text)));
        let canonical = format(&query);
        assert_eq!(parse(&canonical).unwrap(), query);
        assert_eq!(format(&parse(&canonical).unwrap()), canonical);
        let _ = writeln!(printed, "{text}\n---\n{canonical}");
    }
    insta::assert_snapshot!(printed);
}

#[test]
fn wrong_queries_are_told_where_and_what_instead() {
    let mut told = String::new();
    for text in WRONG.iter().chain(RIGHT.iter().filter(|text| text.contains("PT90M"))) {
        let error = parse(text).expect_err(text);
        let _ = writeln!(told, "{}\n", error.render(text));
    }
    insta::assert_snapshot!(told);
}

#[test]
fn places_survive_letters_of_several_bytes() {
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
fn a_frame_can_come_alone() {
    let frame = parse_frame("over last 7d per 1h").unwrap();
    assert_eq!(frame.to_text(), "over last 1w per 1h");
    assert_eq!(parse_frame("").unwrap(), Frame::default());
    assert!(parse_frame("show mean of level").is_err());
}

fn spanned<T>(value: T) -> Spanned<T> {
    Spanned { value, place: Place::default() }
}

fn a_name() -> impl Strategy<Value = String> {
    prop_oneof!["[a-z_][a-z0-9_.]{0,8}", "[a-zA-Z0-9 äß#=(\"-]{1,8}", Just("over".to_owned()), Just("mean".to_owned())]
}

fn a_text() -> impl Strategy<Value = String> {
    prop_oneof!["[a-z]{0,6}", any::<String>()]
}

fn a_span() -> impl Strategy<Value = Span> {
    (0u32..30, 0u32..40, 0i64..100_000).prop_filter_map("longer than zero", |(months, days, ms)| {
        (months + days > 0 || ms > 0).then_some(Span { months, days, nanos: ms * 1_000_000 })
    })
}

fn a_selection() -> impl Strategy<Value = Selection> {
    let comparison = (a_name(), prop::collection::vec(a_text(), 1..4), any::<bool>()).prop_map(|(tag, texts, negated)| {
        let listed = texts.len() > 1;
        Condition::Is(Comparison { tag: spanned(tag), texts: texts.into_iter().map(spanned).collect(), listed, negated })
    });
    let condition = prop::collection::vec(comparison, 0..4).prop_map(|mut parts| match parts.len() {
        0 => None,
        1 => Some(parts.remove(0)),
        _ => Some(Condition::All(parts)),
    });
    (prop::option::of("[a-z]{1,5}"), a_name(), condition)
        .prop_map(|(dataset, metric, condition)| Selection { metric: spanned(MetricName { dataset, metric }), condition })
}

fn a_show() -> impl Strategy<Value = Show> {
    let grouping =
        prop_oneof![Just(Grouping::Apart), Just(Grouping::Overall), prop::collection::vec(a_name().prop_map(spanned), 1..3).prop_map(Grouping::By)];
    let reduction = (prop::sample::select(Reducer::ALL.to_vec()), a_selection(), grouping)
        .prop_map(|(reducer, selection, grouping)| Expr::Reduction(Reduction { reducer: spanned(reducer), selection, grouping }));
    (prop_oneof![reduction, a_selection().prop_map(Expr::Points)], prop::option::of(a_text())).prop_map(|(expr, label)| Show { expr, label })
}

fn an_instant() -> impl Strategy<Value = Spanned<InstantText>> {
    let base = prop::sample::select(vec!["now", "today", "2026-05", "2026-05-01", "2026-05-01T09:00:00.5+01:00"]);
    (base, prop::option::of(a_span())).prop_map(|(base, minus)| spanned(InstantText { base: base.to_owned(), minus }))
}

fn a_frame() -> impl Strategy<Value = Frame> {
    let range = prop_oneof![
        a_span().prop_map(Range::Last),
        an_instant().prop_map(Range::Since),
        (an_instant(), an_instant()).prop_map(|(from, to)| Range::Between(from, to))
    ];
    let width = prop_oneof![a_span().prop_map(FrameWidth::Of), Just(FrameWidth::Auto)];
    (prop::option::of(range), prop::option::of(width), prop::option::of(a_text())).prop_map(|(range, width, zone)| Frame {
        range: range.map(spanned),
        width: width.map(spanned),
        zone: zone.map(spanned),
    })
}

proptest! {
    #[test]
    fn what_is_printed_is_read_back(shows in prop::collection::vec(a_show(), 1..3), frame in a_frame()) {
        let query = Query { shows, frame: (frame != Frame::default()).then_some(frame) };
        let text = format(&query);
        prop_assert_eq!(parse(&text).map_err(|e| e.render(&text)), Ok(query));
    }

    #[test]
    fn junk_is_an_error_whose_place_lies_in_the_text(text in "\\PC{0,60}|(show|mean|of|where|over|last|[a-z=(,\"' ]|24h|\n){0,20}") {
        if let Err(error) = parse(&text) {
            prop_assert!(error.place.start <= error.place.end && error.place.end <= text.len());
            prop_assert!(error.render(&text).contains('^'));
        }
    }
}
