//! What holds of all queries: printed and read back they are the same, as text and as JSON.

use proptest::prelude::*;

use super::*;
use crate::{
    model::Shape,
    time::{LocalTime, Span},
};

fn spanned<T>(value: T) -> Spanned<T> {
    Spanned { value, place: TextSpan::default() }
}

fn a_name() -> impl Strategy<Value = String> {
    prop_oneof!["[a-z_][a-z0-9_.]{0,8}", "[a-zA-Z0-9 äß#=(\"-]{1,8}", Just("over".to_owned()), Just("mean".to_owned()), Just("value".to_owned())]
}

fn a_text() -> impl Strategy<Value = String> {
    prop_oneof!["[a-z]{0,6}", any::<String>()]
}

fn a_number() -> impl Strategy<Value = f64> {
    prop_oneof![(-1_000i32..1_000).prop_map(f64::from), any::<f64>().prop_filter("finite", |number| number.is_finite())]
}

fn a_span() -> impl Strategy<Value = Span> {
    (0u32..30, 0u32..40, 0i64..100_000).prop_filter_map("longer than zero", |(months, days, ms)| {
        (months + days > 0 || ms > 0).then_some(Span { months, days, nanos: ms * 1_000_000, in_weeks: days > 0 && days.is_multiple_of(7) })
    })
}

fn a_reducer() -> impl Strategy<Value = Reducer> {
    let words: Vec<Reducer> = REDUCER_WORDS.into_iter().filter_map(Reducer::from_word).collect();
    prop_oneof![
        prop::sample::select(words),
        (1u32..99_999).prop_map(|share| Reducer::from_word(&format!("p{}", f64::from(share) / 1e3)).unwrap()),
        a_text().prop_map(|state| Reducer::TimeIn(Some(state.into()))),
        a_text().prop_map(|state| Reducer::ShareIn(Some(state.into()))),
        prop::sample::select(vec![Reducer::Area(Some(Shape::Stepped)), Reducer::TimeMean(Some(Shape::Linear))]),
    ]
}

fn a_comparison() -> impl Strategy<Value = Comparison> {
    prop::sample::select(Comparison::ALL.to_vec())
}

fn a_condition() -> impl Strategy<Value = Condition> {
    let test = (a_name(), prop::collection::vec(a_text(), 1..4), any::<bool>()).prop_map(|(tag, texts, negated)| {
        let listed = texts.len() > 1;
        Condition::Is(TagTest { tag: spanned(tag), texts: texts.into_iter().map(spanned).collect(), listed, negated })
    });
    let leaf = prop_oneof![
        test,
        (a_name(), a_text(), any::<bool>()).prop_map(|(tag, pattern, negated)| Condition::Matches(TagMatch {
            tag: spanned(tag),
            pattern: spanned(pattern),
            negated
        })),
        a_name().prop_map(|tag| Condition::Has(spanned(tag))),
        a_name().prop_map(|tag| Condition::Lacks(spanned(tag))),
        (a_comparison(), a_number()).prop_map(|(comparison, number)| Condition::Value(ValueTest { comparison: spanned(comparison), number })),
    ];
    leaf.prop_recursive(3, 12, 3, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 2..4).prop_map(Condition::All),
            prop::collection::vec(inner.clone(), 2..4).prop_map(Condition::Any),
            inner.prop_map(|inner| Condition::Not(Box::new(inner))),
        ]
    })
}

fn a_selection() -> impl Strategy<Value = Selection> {
    (prop::option::of("[a-z]{1,5}"), a_name(), prop::option::of(a_condition()), prop::option::of(a_span())).prop_map(
        |(dataset, metric, condition, earlier)| Selection {
            metric: spanned(MetricName { dataset, metric }),
            condition,
            earlier: earlier.map(spanned),
        },
    )
}

fn an_expr() -> impl Strategy<Value = Expr> {
    let grouping = || {
        prop_oneof![Just(Grouping::Apart), Just(Grouping::Overall), prop::collection::vec(a_name().prop_map(spanned), 1..3).prop_map(Grouping::By)]
    };
    let reduction = (a_reducer(), a_selection(), grouping())
        .prop_map(|(reducer, of, grouping)| Expr::Reduction(Box::new(Reduction { reducer: spanned(reducer), of: Of::Selection(of), grouping })));
    let leaf = prop_oneof![reduction, a_number().prop_map(Expr::Number), a_selection().prop_map(Expr::Selection)];
    leaf.prop_recursive(4, 16, 2, move |inner| {
        let operator = prop::sample::select(vec![Operator::Add, Operator::Subtract, Operator::Multiply, Operator::Divide]);
        let call = prop_oneof![
            (prop::sample::select(vec![Function::Abs, Function::Share, Function::Running]), inner.clone()).prop_map(|(function, of)| Call {
                function: spanned(function),
                of,
                arguments: vec![]
            }),
            (inner.clone(), 1u32..50).prop_map(|(of, windows)| Call { function: spanned(Function::Smooth), of, arguments: vec![windows.into()] }),
            (inner.clone(), -9i32..0, 0i32..9).prop_map(|(of, least, most)| Call {
                function: spanned(Function::Clamp),
                of,
                arguments: vec![least.into(), most.into()]
            }),
        ];
        prop_oneof![
            (operator, inner.clone(), inner.clone()).prop_map(|(operator, left, right)| Expr::Binary(Box::new(Binary {
                operator: spanned(operator),
                left,
                right
            }))),
            // A minus before a number is part of it.
            inner.clone().prop_filter("no number", |inner| !matches!(inner, Expr::Number(_))).prop_map(|inner| Expr::Negate(Box::new(inner))),
            call.prop_map(|call| Expr::Call(Box::new(call))),
            (a_reducer(), inner, grouping()).prop_map(|(reducer, of, grouping)| Expr::Reduction(Box::new(Reduction {
                reducer: spanned(reducer),
                of: Of::Lines(of),
                grouping
            }))),
        ]
    })
}

fn a_selection_of_points() -> impl Strategy<Value = PointsOf> {
    (a_selection(), prop::collection::vec(a_selection(), 0..3)).prop_map(|(Selection { metric, condition, earlier }, others)| PointsOf {
        metric,
        also: others.into_iter().map(|other| other.metric).collect(),
        condition,
        earlier,
    })
}

fn a_show() -> impl Strategy<Value = Show> {
    let end = prop::sample::select(vec![RankEnd::Top, RankEnd::Bottom]);
    let rank = (end, 1usize..1_000, prop::option::of(a_reducer())).prop_map(|(end, count, by)| Rank { end, count, by: by.map(spanned) });
    let unit = prop_oneof![a_text().prop_map(|unit| UnitClause::In(spanned(unit))), a_text().prop_map(|unit| UnitClause::Unit(spanned(unit)))];
    let keeping = (a_comparison(), a_number()).prop_map(|(comparison, number)| Keeping { comparison, number });
    let expr = prop_oneof![an_expr(), a_selection_of_points().prop_map(Expr::Points)];
    (expr, prop::option::of(keeping), prop::option::of(rank), prop::option::of(a_text()), prop::option::of(unit))
        .prop_map(|(expr, keeping, rank, label, unit)| Show { expr, keeping, rank, label, unit })
}

fn an_instant() -> impl Strategy<Value = InstantText> {
    let base = prop::sample::select(vec!["now", "today", "2026-05", "2026-05-01", "2026-05-01T09:00:00.5+01:00"]);
    (base, prop::option::of(a_span())).prop_map(|(base, minus)| InstantText { base: base.to_owned(), minus })
}

fn a_frame() -> impl Strategy<Value = Frame> {
    let range = prop_oneof![
        a_span().prop_map(Range::Last),
        an_instant().prop_map(|from| Range::Since(spanned(from))),
        (an_instant(), an_instant()).prop_map(|(from, to)| Range::Between(spanned(from), spanned(to))),
        prop::sample::select(vec!["2026", "2026-Q2", "2026-W18", "2026-05", "2026-05-01", "today", "yesterday"])
            .prop_map(|date| Range::Calendar(date.to_owned())),
    ];
    let width = prop_oneof![a_span().prop_map(FrameWidth::Of), Just(FrameWidth::Auto)];
    let gaps = prop_oneof![prop::sample::select(vec![Gaps::Empty, Gaps::Hold, Gaps::Line]), a_number().prop_map(Gaps::Number)];
    let source = prop_oneof![Just(ReadFrom::Raw), a_span().prop_map(ReadFrom::Level)];
    let over = (prop::option::of(range), prop::option::of(width), prop::option::of(a_span()), prop::option::of(gaps), any::<bool>()).prop_map(
        |(range, width, stepping, gaps, starts)| Frame {
            range: range.map(spanned),
            width: width.map(spanned),
            stepping: stepping.map(spanned),
            gaps: gaps.map(spanned),
            starting: LocalTime::parse("06:30").filter(|_| starts).map(spanned),
            ..Frame::default()
        },
    );
    let moments = prop_oneof![
        prop::collection::vec(an_instant(), 1..4).prop_map(|listed| Moments::Listed(listed.into_iter().map(spanned).collect())),
        Just(Moments::Starts)
    ];
    let at =
        (moments, prop::option::of(prop::sample::select(Taking::ALL.to_vec())), prop::option::of(a_span())).prop_map(|(moments, taking, within)| {
            Frame { moments: Some(spanned(moments)), taking: taking.map(spanned), within: within.map(spanned), ..Frame::default() }
        });
    (prop_oneof![over, at], prop::option::of(a_text()), prop::option::of(source)).prop_map(|(frame, zone, source)| Frame {
        zone: zone.map(spanned),
        source: source.map(spanned),
        ..frame
    })
}

proptest! {
    #[test]
    fn printed_queries_parse_back(
        names in prop::collection::btree_set(a_name(), 0..3),
        exprs in prop::collection::vec(an_expr(), 3),
        shows in prop::collection::vec(a_show(), 1..3),
        frame in a_frame(),
    ) {
        let lets = names.into_iter().zip(exprs).map(|(name, expr)| Let { name: spanned(name), expr }).collect();
        let query = Query { lets, shows, frame: (frame != Frame::default()).then_some(frame) };
        let text = format(&query);
        prop_assert_eq!(&parse(&text).map_err(|e| e.render(&text)), &Ok(query.clone()));
        let json = serde_json::to_string(&query).unwrap();
        let back: Query = serde_json::from_str(&json).unwrap();
        prop_assert_eq!(&back, &query);
        prop_assert_eq!(normal(&back), Ok(query));
    }

    #[test]
    fn junk_is_an_error_whose_place_lies_in_the_text(text in "\\PC{0,60}|(show|let|mean|of|where|over|last|value|not|top|[a-z=<+*(),\"' ]|24h|3|\n){0,20}") {
        if let Err(error) = parse(&text) {
            prop_assert!(error.place.start <= error.place.end && error.place.end <= text.len());
            prop_assert!(error.render(&text).contains('^'));
        }
    }
}
