//! What a frame's words mean: from when to when, cut how, in which zone. Guards the calendar, above all at clock changes.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use fenetre_core::{
    catalogue::Catalogue,
    model::{DatasetDefinition, DatasetId, MetricDefinition, MetricId, SeriesId},
    plan::{Limits, Moment, Plan, PlanError, PlannedTime, plan},
    query::{Frame, parse, parse_frame},
    time::{format_in_zone, parse_rfc3339},
};

fn catalogue() -> Catalogue {
    let mut catalogue = Catalogue::default();
    catalogue.put_dataset(DatasetId(1), "velmar", "velmar", DatasetDefinition { zone: "Europe/Lisbon".into(), ..Default::default() });
    let dataset = catalogue.dataset_mut("velmar").unwrap();
    dataset.put_metric(MetricId(1), "level", MetricDefinition::default());
    dataset.put_series(SeriesId(1), "level", [("lock", "osier")].into_iter(), None);
    catalogue
}

fn planned(frame: &str, now: &str) -> Result<Plan, PlanError> {
    let query = parse(&format!("show 1 {frame}")).unwrap();
    plan(&query, &Frame::default(), &catalogue(), "velmar", parse_rfc3339(now).unwrap(), &Limits::default())
}

fn rendered(frame: &str, now: &str) -> String {
    match planned(frame, now) {
        Err(error) => format!("{frame}\n  {error}\n"),
        Ok(plan) => {
            let tell = |at: i64| format_in_zone(at, &plan.zone);
            let windows = match &plan.time {
                PlannedTime::Moments(moments) => {
                    let of = |moment: &Moment| format!("  at {}, taking {}, within {:?}\n", tell(moment.at), moment.taking.as_str(), moment.within);
                    return format!("{frame}\n{}", moments.iter().map(of).collect::<String>());
                }
                PlannedTime::Windows(windows, _) => windows,
            };
            let range = windows.range();
            let width = windows.width().map_or("whole".to_owned(), |width| width.to_string());
            let partial = (0..windows.len()).filter(|i| windows.is_partial(*i, plan.now)).count();
            let bounds = windows.bounds();
            format!(
                "{frame}\n  {} to {}\n  {} of {width} from {} to {}, {partial} partial\n",
                tell(range.start),
                tell(range.end),
                windows.len(),
                tell(bounds[0]),
                tell(bounds[bounds.len() - 1])
            )
        }
    }
}

#[test]
fn frames_on_an_ordinary_day() {
    let frames = [
        "over last 24h",
        "over last 1d",
        "over last 90m per 15m",
        "over last 2w per 1w",
        "over last 1mo per 1d",
        "over last 1y per 3mo",
        "over since today per 1h",
        "over since yesterday",
        "over yesterday to today per 1d",
        "over now - 2h to now - 1h per 20m",
        "over 2026-05 to 2026-06 per 1mo",
        "over 2026-05-01 to 2026-05-02 zone \"UTC\"",
        "over 2026-05-01T09:00 to 2026-05-01T10:00 per 250ms",
        "over 2026-05-01T09:00:00Z to 2026-05-01T09:00:00+01:00",
        "over today to yesterday",
        "over last 24h per auto",
        "over last 1d12h per 1d12h",
        "over 2026-13-01 to now",
        "over 2026-05-01T25:00 to now",
        "over 2026-05 per 1w",
        "over 2026-05-01",
        "over today per 1h",
        "over yesterday",
        "over last 1h per 30m stepping 10m",
        "over last 1d per 8h starting 06:00",
        "over last 1d per 1d starting 06:00",
        "over last 1d per 7h starting 06:00",
        "over last 1d per 1h stepping 1d",
        "over last 1d per 8h stepping 4h starting 06:00",
        "at now",
        "at 2026-05-01T09:00 taking nearest within 10m",
        "at yesterday within 1d",
    ];
    let rendered: String = frames.iter().map(|frame| rendered(frame, "2026-05-20T12:34:56Z")).collect();
    insta::assert_snapshot!(rendered);
}

#[test]
fn frames_over_both_clock_changes() {
    let spring: String = [
        "over last 24h per 1h",
        "over last 1d per 1h",
        "over today to now per 1d",
        "over yesterday to today per 1d",
        "over 2026-03-29T00:30 to 2026-03-29T02:30",
    ]
    .iter()
    .map(|frame| rendered(frame, "2026-03-30T12:00:00+01:00").replace("over", "spring: over"))
    .collect();
    let autumn: String =
        ["over last 1d per 1d", "over 2026-10-25 to 2026-10-26 per 1h", "over 2026-10-25T01:30 to now", "over 2026-10-25T00:30 to now"]
            .iter()
            .map(|frame| rendered(frame, "2026-10-26T12:00:00Z").replace("over", "autumn: over"))
            .collect();
    insta::assert_snapshot!(spring + &autumn);
}

#[test]
fn each_clause_comes_from_the_text_or_the_frame() {
    let outer = parse_frame("over last 2h per 30m zone \"UTC\"").unwrap();
    let now = parse_rfc3339("2026-05-20T12:00:00Z").unwrap();
    let cases = [
        ("show mean of level", 4, 0),
        ("show mean of level over last 2h", 4, 0),
        ("show mean of level over last 1h", 2, 1),
        ("show mean of level over last 1h per 1m zone \"Europe/Lisbon\"", 60, 3),
    ];
    for (text, windows, notes) in cases {
        let plan = plan(&parse(text).unwrap(), &outer, &catalogue(), "velmar", now, &Limits::default()).unwrap();
        assert_eq!((plan.time.columns(), plan.notes.len()), (windows, notes), "{text}: {:?}", plan.notes);
    }
}

#[test]
fn an_error_points_into_its_text() {
    let now = parse_rfc3339("2026-05-20T12:00:00Z").unwrap();
    let query = parse("show mean of level").unwrap();
    let outer = parse_frame("over last 2h zone \"Atlantis\"").unwrap();
    assert!(matches!(plan(&query, &outer, &catalogue(), "velmar", now, &Limits::default()), Err(PlanError::Frame(_))));
    assert!(matches!(planned("over last 2h zone \"Atlantis\"", "2026-05-20T12:00:00Z"), Err(PlanError::Query(_))));
    assert!(matches!(plan(&query, &Frame::default(), &catalogue(), "velmar", now, &Limits::default()), Err(PlanError::NoFrame)));
    assert!(matches!(plan(&query, &Frame::default(), &catalogue(), "nowhere", now, &Limits::default()), Err(PlanError::NoDataset { .. })));
}

#[test]
fn a_metric_of_another_dataset_is_suggested() {
    let mut catalogue = catalogue();
    catalogue.put_dataset(DatasetId(2), "main", "main", DatasetDefinition::default());
    let now = parse_rfc3339("2026-05-20T12:00:00Z").unwrap();
    let query = parse("show mean of level over last 1h").unwrap();
    let Err(PlanError::Query(error)) = plan(&query, &Frame::default(), &catalogue, "main", now, &Limits::default()) else { panic!() };
    assert_eq!(error.help.as_deref(), Some("the dataset `velmar` has one: ask that one, or write velmar::level"));
    let qualified = parse("show mean of velmar::level over last 1h").unwrap();
    assert_eq!(plan(&qualified, &Frame::default(), &catalogue, "main", now, &Limits::default()).unwrap().shows[0].lines.len(), 1);
}
