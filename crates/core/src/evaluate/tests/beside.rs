//! Several answers beside each other: states, moments, metrics.

use super::*;

fn answer(text: &str) -> Answer {
    let (catalogue, memory) = waterway();
    let plan = plan(&parse(text).unwrap(), &Frame::default(), &catalogue, "velmar", NOW, &Limits::default()).unwrap();
    evaluate(plan, &memory, &|| false).unwrap()
}

fn lines(text: &str) -> Vec<(String, Vec<Option<Value>>)> {
    let of = |line: &crate::answer::WindowLine| (crate::model::TagsDisplay(&line.tags).to_string(), line.values.clone());
    match &answer(text).shows[0].lines {
        Lines::Windows(lines) | Lines::Moments(lines) => lines.iter().map(of).collect(),
        Lines::Points(_) => panic!("{text}"),
    }
}

fn sum(lines: &[(String, Vec<Option<Value>>)]) -> f64 {
    lines.iter().flat_map(|(_, values)| values).filter_map(|value| value.as_ref()?.number()).sum()
}

#[test]
fn reducing_all_states_equals_each_state_alone() {
    for frame in ["over last 1h per 30m", "by reach over last 1h", "overall over last 1h per 20m", "where lock = \"osier\" over last 1h"] {
        let all = lines(&format!("show time_in of gate {frame}"));
        for state in ["open", "closed"] {
            let ofthis: Vec<_> = all.iter().filter(|(tags, _)| tags.contains(&format!("state={state}"))).map(|(_, values)| values.clone()).collect();
            let alone: Vec<_> = lines(&format!("show time_in(\"{state}\") of gate {frame}")).into_iter().map(|(_, values)| values).collect();
            assert_eq!(ofthis, alone, "{state} {frame}");
        }
        let shares = lines(&format!("show share_in of gate {frame}"));
        let windows = shares.len() / 2 * shares[0].1.len();
        assert!((sum(&shares) - windows as f64).abs() < 1e-9, "{frame}: {shares:?}");
    }
}

#[test]
fn the_shape_can_be_set_alone() {
    // Points rise by one a minute: a line lies half a step above the steps.
    let (own, linear, stepped) = (sum(&lines(&mean(""))), sum(&lines(&mean("(linear)"))), sum(&lines(&mean("(stepped)"))));
    assert_eq!(own, linear);
    assert!((linear - stepped - 0.5 * 3.0).abs() < 1e-9, "{linear} {stepped}");
}

fn mean(shape: &str) -> String {
    format!("show time_mean{shape} of level over now - 41m to now - 1m")
}

#[test]
fn several_moments_are_each_moment_by_itself() {
    let moments = ["now - 90m", "now - 30m", "now - 5s", "now"];
    for what in ["level", "gate", "max of (level) by reach", "level + 1", "lockage"] {
        for clauses in ["", " taking nearest within 20s", " taking after"] {
            let together = lines(&format!("show {what} at {}{clauses}", moments.join(", ")));
            for (column, moment) in moments.iter().enumerate() {
                let alone = lines(&format!("show {what} at {moment}{clauses}"));
                let column: Vec<_> = together.iter().map(|(tags, values)| (tags.clone(), vec![values[column].clone()])).collect();
                assert_eq!(column, alone, "{what} at {moment}{clauses}");
            }
        }
    }
    // Whatever their order, they come in order of time, each once.
    let AnswerTime::Moments(times) = answer("show level at now, now - 1h, now").time else { panic!() };
    assert_eq!(times, [NOW - 3_600 * SECOND, NOW]);
}

#[test]
fn the_starts_of_windows_are_moments() {
    let starts = answer("show level over last 1h per 15m at starts");
    let AnswerTime::Moments(times) = &starts.time else { panic!() };
    let quarter = 900 * SECOND;
    assert!(times.len() == 4 && times.iter().all(|at| at % quarter == 0 && (NOW - 3_600 * SECOND..=NOW).contains(at)), "{times:?}");
    let listed = times.iter().map(|at| format_utc(*at)).collect::<Vec<_>>().join(", ");
    assert_eq!(lines("show level over last 1h per 15m at starts"), lines(&format!("show level at {listed}")));
}

#[test]
fn reading_several_metrics_equals_reading_each() {
    let together = answer("show points of level, gate where lock = \"osier\" over last 10m");
    let Lines::Points(both) = &together.shows[0].lines else { panic!() };
    let alone = ["level", "gate"].map(|metric| {
        let Lines::Points(one) = &answer(&format!("show points of {metric} where lock = \"osier\" over last 10m")).shows[0].lines else { panic!() };
        one.clone()
    });
    assert_eq!(*both, alone.concat());
    let named: Vec<_> = both.iter().map(|line| (&*line.metric, line.unit.as_deref())).collect();
    assert_eq!(named, [("level", Some("cm")), ("gate", None)]);
    assert_eq!(together.shows[0].unit, None);
}

#[test]
fn incompatible_queries_are_refused() {
    let answers = [
        "show time_in(open) of gate over last 1h",
        "show time_mean(held) of level over last 1h",
        "show time_in of level over last 1h",
        "show level at starts",
        "show level over last 1h at now",
        "show points of level where lock = \"osier\", gate over last 1h",
        "show points of level, gate, level over last 1h",
        "show time_mean(stepped of level over last 1h",
        "show time_in of (gate) over last 1h",
    ]
    .map(ask);
    insta::assert_snapshot!(answers.join("\n\n"));
}
