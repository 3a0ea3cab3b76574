//! Counters of whole numbers up to 64 bits, whose growth must be exact where doubles are not; and units and calendars on the way.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use fenetre_core::{
    block::Columns,
    model::{Kind, MetricDefinition, Shape, Value, split_integer},
    time::{SECOND, Span},
};
use proptest::prelude::*;
use support::{NOW, World};

fn counter(values: &[i128]) -> World {
    let mut world = World::new("Europe/Lisbon");
    world.metric("bytes", MetricDefinition { kind: Kind::Counter, unit: Some("By".into()), shape: Shape::Stepped, ..Default::default() });
    let mut points = Columns::default();
    for (at, value) in values.iter().enumerate() {
        let (double, rest) = split_integer(*value);
        points.push(NOW - (values.len() - at) as i64 * 60 * SECOND, double, rest);
    }
    world.series(0, "bytes", &[], None, points);
    world
}

proptest! {
    #[test]
    fn growth_beyond_doubles_is_exact(start in (1i64 << 60)..i64::MAX / 2, steps in prop::collection::vec((0i64..1_000, any::<bool>()), 1..40)) {
        let mut values = vec![i128::from(start)];
        let mut grown = 0i128;
        for (step, resets) in steps {
            let before = values[values.len() - 1];
            let next = if resets && step % 7 == 0 { i128::from(step) } else { before + i128::from(step) };
            grown += if next >= before { next - before } else { next };
            values.push(next);
        }
        let world = counter(&values);
        prop_assert_eq!(world.numbers("show growth of bytes over last 2h"), [Some(grown as f64)]);
        // The same in windows of any width.
        let parts: f64 = world.numbers("show growth of bytes over last 2h per 7m").into_iter().flatten().sum();
        prop_assert_eq!(parts, grown as f64);
        let lines = world.ask("show last of bytes over last 2h");
        let last = lines[0].values[0].clone().unwrap();
        prop_assert_eq!(last.to_string(), values[values.len() - 1].to_string());
        prop_assert!(matches!(last, Value::Integer(_)) || values[values.len() - 1] < 1 << 53);
    }

    #[test]
    fn a_rate_in_another_unit_is_the_same_rate(step in 1u32..100_000) {
        let values: Vec<i128> = (0..61).map(|at| at * i128::from(step)).collect();
        let world = counter(&values);
        let by = |unit: &str| world.numbers(&format!("show rate of bytes in \"{unit}\" over last 1h"))[0].unwrap();
        let bytes = by("By/s");
        for (unit, factor) in [("By/min", 60.0), ("kBy/s", 1e-3), ("bit/s", 8.0), ("MBy/h", 3_600.0 * 1e-6)] {
            prop_assert!((by(unit) - bytes * factor).abs() < 1e-9 * bytes * factor, "{}", unit);
        }
    }
}

#[test]
fn a_week_earlier_over_a_clock_change_keeps_the_local_hour() {
    let mut world = World::new("Europe/Lisbon");
    world.metric("level", MetricDefinition { stale_after: Some(Span::exact(3_600 * SECOND)), ..Default::default() });
    // A point each half hour of local time that says which hour of the day it is, over the end of summer time on 25 October.
    let at = |text: &str| fenetre_core::time::parse_rfc3339(text).unwrap();
    let mut points = Columns::default();
    let zone = fenetre_core::time::zone("Europe/Lisbon").unwrap();
    let mut time = at("2026-10-18T00:00:00Z");
    while time < at("2026-10-28T00:00:00Z") {
        points.push(time, f64::from(fenetre_core::time::zoned(time, &zone).hour()), 0);
        time += 1_800 * SECOND;
    }
    world.series(0, "level", &[], None, points);
    let hours = world.numbers("show max of level 1w earlier over 2026-10-27 per 1h");
    assert_eq!(hours, (0..24).map(|hour| Some(f64::from(hour))).collect::<Vec<_>>());
    let days = world.numbers("show count of level over 2026-10-24 to 2026-10-27 per 1d");
    assert_eq!(days, [Some(48.0), Some(50.0), Some(48.0)], "the day of the change has an hour more");
    let shifts = world.numbers("show count of level over 2026-10-25 per 8h starting 06:00");
    assert_eq!(shifts, [Some(14.0), Some(16.0), Some(16.0), Some(4.0)]);
}
