//! What comes after reading, held against loops that anyone can check: gaps, functions, lines reduced, kept and ranked; and moments.

use proptest::prelude::*;

use super::{super::*, NOW, memory::Memory};
use crate::{
    catalogue::Catalogue,
    model::{DatasetDefinition, Kind, MetricDefinition, MetricId, Shape, Value},
    plan::{Limits, plan},
    query::{Frame, parse},
    time::{Nanos, SECOND, Span},
};

const WINDOWS: usize = 12;
const LOCKS: [(&str, &str); 4] = [("osier", "upper"), ("marl", "upper"), ("wick", "lower"), ("alder", "lower")];

/// Values of four locks, a point in the middle of each minute or none.
type Values = Vec<Vec<Option<f64>>>;
/// What a line holds in one of its windows.
type At<'a> = dyn Fn(&[Option<f64>], usize) -> Option<f64> + 'a;

fn store(values: &[Vec<Option<f64>>]) -> (Catalogue, Memory) {
    let (mut catalogue, mut memory) = (Catalogue::default(), Memory::default());
    catalogue.put_dataset(DatasetId(1), "velmar", "velmar", DatasetDefinition::default());
    let dataset = catalogue.dataset_mut("velmar").unwrap();
    dataset.put_metric(MetricId(1), "level", MetricDefinition { unit: Some("cm".into()), ..MetricDefinition::default() });
    for (id, ((lock, reach), line)) in LOCKS.into_iter().zip(values).enumerate() {
        dataset.put_series(SeriesId(id as u32), "level", [("lock", lock), ("reach", reach)].into_iter(), None);
        let mut columns = Columns::default();
        for (minute, value) in line.iter().enumerate().filter_map(|(minute, value)| Some((minute, (*value)?))) {
            columns.push(start() + minute as i64 * 60 * SECOND + 30 * SECOND, value, 0);
        }
        memory.runs.insert(SeriesId(id as u32), vec![(true, columns)]);
    }
    (catalogue, memory)
}

fn start() -> Nanos {
    NOW - NOW.rem_euclid(60 * SECOND) - WINDOWS as i64 * 60 * SECOND
}

fn ask(values: &[Vec<Option<f64>>], query: &str) -> Vec<(String, Vec<Option<f64>>)> {
    let (catalogue, memory) = store(values);
    let text = format!(
        "show {query} over {} to {} per 1m",
        crate::time::format_utc(start()),
        crate::time::format_utc(start() + WINDOWS as i64 * 60 * SECOND)
    );
    let query = parse(&text).map_err(|error| error.render(&text)).unwrap();
    let planned = plan(&query, &Frame::default(), &catalogue, "velmar", NOW, &Limits::default()).unwrap();
    let answer = evaluate(planned, &memory, &|| false).unwrap();
    let Lines::Windows(lines) = &answer.shows[0].lines else { panic!() };
    let line = |line: &crate::answer::WindowLine| {
        let name: Vec<&str> = line.tags.values().map(|value| &**value).collect();
        (name.join(" "), line.values.iter().map(|value| value.as_ref().and_then(Value::number)).collect())
    };
    lines.iter().map(line).collect()
}

fn a_store() -> impl Strategy<Value = Values> {
    let value = prop::option::weighted(0.7, (-40i32..40).prop_map(|value| f64::from(value) / 4.0));
    prop::collection::vec(prop::collection::vec(value, WINDOWS), LOCKS.len())
}

/// The lines in the order of their names, as answers have them.
fn by_name(values: &Values) -> Vec<(String, Vec<Option<f64>>)> {
    let mut lines: Vec<_> = LOCKS.iter().zip(values).map(|((lock, reach), line)| (format!("{lock} {reach}"), line.clone())).collect();
    lines.sort_by(|a, b| a.0.cmp(&b.0));
    lines
}

fn close(found: &[(String, Vec<Option<f64>>)], wanted: &[(String, Vec<Option<f64>>)]) -> Result<(), TestCaseError> {
    let names = |lines: &[(String, Vec<Option<f64>>)]| lines.iter().map(|line| line.0.clone()).collect::<Vec<_>>();
    prop_assert_eq!(names(found), names(wanted));
    for ((name, found), (_, wanted)) in found.iter().zip(wanted) {
        let near = |(a, b): (&Option<f64>, &Option<f64>)| match (a, b) {
            (Some(a), Some(b)) => (a - b).abs() < 1e-9 * b.abs().max(1.0),
            (a, b) => a == b,
        };
        prop_assert!(found.iter().zip(wanted).all(near), "{}: {:?} {:?}", name, found, wanted);
    }
    Ok(())
}

proptest! {
    #[test]
    fn gaps_are_filled_from_what_lies_beside_them(values in a_store()) {
        let filled = |how: &At<'_>| {
            by_name(&values).into_iter().map(|(name, line)| {
                let all = (0..WINDOWS).map(|at| line[at].or_else(|| how(&line, at))).collect();
                (name, all)
            }).collect::<Vec<_>>()
        };
        let before = |line: &[Option<f64>], at: usize| (0..at).rev().find_map(|i| Some((i, line[i]?)));
        let after = |line: &[Option<f64>], at: usize| (at..WINDOWS).find_map(|i| Some((i, line[i]?)));
        close(&ask(&values, "mean of level gaps 7"), &filled(&|_, _| Some(7.0)))?;
        close(&ask(&values, "mean of level gaps hold"), &filled(&|line, at| before(line, at).map(|(_, value)| value)))?;
        let between = |line: &[Option<f64>], at: usize| {
            let ((from, low), (to, high)) = (before(line, at)?, after(line, at)?);
            Some(low + (high - low) * (at - from) as f64 / (to - from) as f64)
        };
        close(&ask(&values, "mean of level gaps line"), &filled(&between))?;
    }

    #[test]
    fn functions_go_from_window_to_window(values in a_store(), width in 1usize..6) {
        let each = |of: &At<'_>| {
            by_name(&values).into_iter().map(|(name, line)| (name, (0..WINDOWS).map(|at| of(&line, at)).collect())).collect::<Vec<_>>()
        };
        close(&ask(&values, "abs(mean of level)"), &each(&|line, at| line[at].map(f64::abs)))?;
        close(&ask(&values, "clamp(mean of level, -3, 4)"), &each(&|line, at| line[at].map(|value| value.clamp(-3.0, 4.0))))?;
        close(&ask(&values, "sqrt(mean of level)"), &each(&|line, at| line[at].filter(|value| *value >= 0.0).map(f64::sqrt)))?;
        close(&ask(&values, "running(mean of level)"), &each(&|line, at| line[at].map(|_| line[..=at].iter().flatten().sum())))?;
        close(&ask(&values, "change(mean of level)"), &each(&|line, at| Some(line[at]? - line[at.checked_sub(1)?]?)))?;
        let smooth = |line: &[Option<f64>], at: usize| {
            let part: Vec<f64> = line[(at + 1).saturating_sub(width)..=at].iter().flatten().copied().collect();
            line[at].map(|_| part.iter().sum::<f64>() / part.len() as f64)
        };
        close(&ask(&values, &format!("smooth(mean of level, {width})")), &each(&smooth))?;
        let share = |at: usize, value: Option<f64>| {
            let total: f64 = values.iter().filter_map(|line| line[at]).sum();
            value.filter(|_| total != 0.0).map(|value| value / total)
        };
        close(&ask(&values, "share(mean of level)"), &each(&|line, at| share(at, line[at])))?;
    }

    #[test]
    fn arithmetic_joins_each_lock_with_its_reach(values in a_store()) {
        let of_reach = |reach: &str, at: usize| {
            let all: Vec<f64> = LOCKS.iter().zip(&values).filter(|((_, own), _)| *own == reach).filter_map(|(_, line)| line[at]).collect();
            (!all.is_empty()).then(|| all.iter().sum::<f64>() / all.len() as f64)
        };
        let lines = |of: &dyn Fn(f64, f64) -> Option<f64>| {
            by_name(&values).into_iter().map(|(name, line)| {
                let reach = name.split(' ').nth(1).unwrap().to_owned();
                let all = (0..WINDOWS).map(|at| of(line[at]?, of_reach(&reach, at)?)).collect();
                (name, all)
            }).collect::<Vec<_>>()
        };
        close(&ask(&values, "mean of level - mean of level by reach"), &lines(&|one, all| Some(one - all)))?;
        close(&ask(&values, "mean of level / mean of level by reach"), &lines(&|one, all| (all != 0.0).then(|| one / all)))?;
        close(&ask(&values, "(mean of level by reach) * 2 - -mean of level"), &lines(&|one, all| Some(all * 2.0 + one)))?;
    }

    #[test]
    fn lines_are_reduced_kept_and_ranked(values in a_store(), count in 1usize..6) {
        let column = |at: usize| values.iter().filter_map(|line| line[at]).collect::<Vec<f64>>();
        let over = |of: &dyn Fn(&[f64]) -> f64| {
            vec![(String::new(), (0..WINDOWS).map(|at| Some(column(at)).filter(|all| !all.is_empty()).map(|all| of(&all))).collect::<Vec<_>>())]
        };
        close(&ask(&values, "sum of (mean of level) overall"), &over(&|all| all.iter().sum()))?;
        close(&ask(&values, "spread of (mean of level) overall"), &over(&|all| all.iter().copied().fold(f64::MIN, f64::max) - all.iter().copied().fold(f64::MAX, f64::min)))?;
        close(&ask(&values, "count of (mean of level) overall"), &over(&|all| all.len() as f64))?;
        let greatest = |line: &[Option<f64>]| line.iter().flatten().copied().fold(f64::NEG_INFINITY, f64::max);
        let mut ranked: Vec<_> = by_name(&values).into_iter().filter(|(_, line)| line.iter().any(Option::is_some)).collect();
        ranked.sort_by(|a, b| greatest(&b.1).total_cmp(&greatest(&a.1)));
        ranked.truncate(count);
        close(&ask(&values, &format!("mean of level top {count} by max")), &ranked)?;
        let kept = by_name(&values).into_iter().map(|(name, line)| (name, line.into_iter().map(|value| value.filter(|value| *value > 3.0)).collect::<Vec<_>>()));
        let kept: Vec<_> = kept.filter(|(_, line)| line.iter().any(Option::is_some)).collect();
        close(&ask(&values, "mean of level keeping > 3"), &kept)?;
    }

    #[test]
    fn a_moment_uses_the_point_that_it_names(
        steps in prop::collection::vec((1i64..500, -40i32..40), 0..20),
        ago in 0i64..6_000, within in 1i64..2_000, linear in any::<bool>(),
    ) {
        let mut at = NOW - 5_000 * SECOND;
        let points: Vec<(Nanos, f64)> = steps.iter().map(|(step, value)| { at += step * SECOND; (at, f64::from(*value)) }).filter(|(at, _)| *at <= NOW).collect();
        let (mut catalogue, mut memory) = (Catalogue::default(), Memory::default());
        catalogue.put_dataset(DatasetId(1), "velmar", "velmar", DatasetDefinition::default());
        let dataset = catalogue.dataset_mut("velmar").unwrap();
        let shape = if linear { Shape::Linear } else { Shape::Stepped };
        dataset.put_metric(MetricId(1), "level", MetricDefinition { kind: Kind::Gauge, shape, stale_after: Some(Span::exact(900 * SECOND)), ..Default::default() });
        dataset.put_series(SeriesId(0), "level", [].into_iter(), None);
        memory.runs.insert(SeriesId(0), vec![(true, Columns { times: points.iter().map(|p| p.0).collect(), values: points.iter().map(|p| p.1).collect(), rests: vec![] })]);
        let moment = NOW - ago * SECOND;
        for (clause, near) in [(format!(" within {within}s"), within), (String::new(), 900)] {
            let near = near * SECOND;
            let before = points.iter().rev().find(|(at, _)| *at <= moment && moment - at <= near).copied();
            let after = points.iter().find(|(at, _)| *at >= moment && at - moment <= near).copied();
            let line = before.zip(after).map(|((from, low), (to, high))| if from == to { low } else { low + (high - low) * (moment - from) as f64 / (to - from) as f64 });
            let nearest = match (before, after) {
                (Some(before), Some(after)) => Some(if moment - before.0 <= after.0 - moment { before.1 } else { after.1 }),
                (one, other) => one.or(other).map(|point| point.1),
            };
            let natural = if linear && ago > 0 { line.or(before.map(|point| point.1)) } else { before.map(|point| point.1) };
            let wanted = [
                ("natural", natural), ("before", before.map(|point| point.1)), ("after", after.map(|point| point.1)), ("line", line), ("nearest", nearest),
                ("exact", before.filter(|point| point.0 == moment).map(|point| point.1)),
            ];
            for (taking, wanted) in wanted {
                let text = format!("show level at now - {ago}s taking {taking}{clause}").replace(" - 0s", "");
                let planned = plan(&parse(&text).unwrap(), &Frame::default(), &catalogue, "velmar", NOW, &Limits::default()).unwrap();
                let answer = evaluate(planned, &memory, &|| false).unwrap();
                let Lines::Moments(lines) = &answer.shows[0].lines else { panic!() };
                let found = lines[0].values[0].as_ref().and_then(Value::number);
                let same = match (found, wanted) { (Some(found), Some(wanted)) => (found - wanted).abs() < 1e-9, (found, wanted) => found == wanted };
                prop_assert!(same, "{}: {:?}, not {:?}", text, found, wanted);
                prop_assert_eq!(answer.notes.len(), usize::from(wanted.is_none()));
            }
        }
    }
}
