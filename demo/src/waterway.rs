//! What there is on the waterway.

use fenetre_core::{
    model::{Kind, MetricDefinition, Shape, TagDefinition},
    time::{Nanos, SECOND, Span},
};

use crate::behaviour::Behaviour;

/// Name of the demo's dataset.
pub const DATASET: &str = "velmar";
/// Zone of its calendar.
pub const ZONE: &str = "Europe/Lisbon";

/// Locks from the top of the canal to its end, with their reach.
pub const LOCKS: [(&str, &str); 12] = [
    ("brindle", "upper"),
    ("osier", "upper"),
    ("tansy", "upper"),
    ("fallow", "upper"),
    ("marl", "middle"),
    ("quill", "middle"),
    ("sedge", "middle"),
    ("harrow", "middle"),
    ("copper", "lower"),
    ("linnet", "lower"),
    ("alder", "lower"),
    ("wick", "lower"),
];

/// A series of the waterway: how often it is read, when, and how it moves.
pub struct SeriesPlan {
    /// Its metric.
    pub metric: &'static str,
    /// Its tags.
    pub tags: Vec<(&'static str, &'static str)>,
    /// Time between two readings.
    pub step: Nanos,
    /// How long its points take to arrive.
    pub delay: Nanos,
    /// How much a reading's time wavers.
    pub jitter: Nanos,
    pub(crate) behaviour: Behaviour,
    pub(crate) lock: usize,
}

/// Definitions of the metrics.
pub fn metrics() -> Vec<(&'static str, MetricDefinition)> {
    let define = |kind, unit: &str, shape, seconds: i64, label: &str, description: &str| MetricDefinition {
        kind,
        unit: (!unit.is_empty()).then(|| unit.to_owned()),
        shape,
        description: description.to_owned(),
        interval: Some(Span::exact(seconds * SECOND)),
        stale_after: Some(Span::exact(seconds * 5 * SECOND)),
        labels: vec![label.to_owned()],
        ..MetricDefinition::default()
    };
    vec![
        ("level", define(Kind::Gauge, "cm", Shape::Linear, 30, "water", "Water level at a lock, above and below it")),
        ("flow", define(Kind::Gauge, "m3/s", Shape::Linear, 60, "water", "Water that passes a lock")),
        ("gate", define(Kind::State, "", Shape::Stepped, 60, "locks", "What a lock's gate does: open, moving, closed or jammed")),
        ("boats", define(Kind::Counter, "{boat}", Shape::Stepped, 60, "traffic", "Boats that passed, by direction")),
        (
            "pump_energy",
            define(Kind::Counter, "kW.h", Shape::Stepped, 60, "energy", "Energy that a pump took; begins anew when its meter is changed"),
        ),
        ("gate_commands", define(Kind::Counter, "{command}", Shape::Stepped, 300, "locks", "Commands to a gate, by outcome")),
        ("water_temp", define(Kind::Gauge, "Cel", Shape::Linear, 120, "water", "Temperature of the water")),
        ("turbidity", define(Kind::Gauge, "{NTU}", Shape::Linear, 300, "water", "How cloudy the water is")),
        ("lockage_time", define(Kind::Histogram, "s", Shape::Linear, 900, "traffic", "Time that lockages took, each quarter of an hour")),
        ("battery", define(Kind::Gauge, "V", Shape::Stepped, 600, "stations", "Voltage of a station's battery")),
    ]
}

/// Definitions of the tags.
pub fn tags() -> Vec<(&'static str, TagDefinition)> {
    let define = |description: &str, allowed: &[&str]| TagDefinition {
        description: description.to_owned(),
        allowed: allowed.iter().map(|value| (*value).to_owned()).collect(),
        ..TagDefinition::default()
    };
    vec![
        (
            "lock",
            TagDefinition { required: true, ..define("One of the twelve locks, from the top of the canal to its end", &LOCKS.map(|(lock, _)| lock)) },
        ),
        ("reach", define("The part of the canal that the lock belongs to", &["upper", "middle", "lower"])),
        ("side", define("Above the lock or below it", &["up", "down"])),
        ("direction", define("Which way boats went", &["up", "down"])),
        ("outcome", define("What became of a command", &["done", "refused", "timeout"])),
        ("pump", TagDefinition { pattern: Some("p[0-9]+".to_owned()), ..define("One of the lock's pumps", &[]) }),
    ]
}

/// Every series: 180 of them.
pub fn series() -> Vec<SeriesPlan> {
    let mut all = Vec::new();
    for (index, (lock, reach)) in LOCKS.into_iter().enumerate() {
        let mut add = |metric, extra: &[(&'static str, &'static str)], seconds: i64, behaviour| {
            let tags = [("lock", lock), ("reach", reach)].into_iter().chain(extra.iter().copied()).collect();
            let step = seconds * SECOND;
            all.push(SeriesPlan { metric, tags, step, delay: 0, jitter: 0, behaviour, lock: index });
        };
        let fall = 40.0 * index as f64;
        add("level", &[("side", "up")], 30, Behaviour::level(620.0 - fall));
        add("level", &[("side", "down")], 30, Behaviour::level(580.0 - fall));
        add("flow", &[], 60, Behaviour::Flow { base: 9.0 + index as f64 * 0.6 });
        add("gate", &[], 60, Behaviour::gate());
        add("boats", &[("direction", "up")], 60, Behaviour::boats(3.2));
        add("boats", &[("direction", "down")], 60, Behaviour::boats(3.0));
        add("pump_energy", &[("pump", "p1")], 60, Behaviour::pump(11.0));
        add("pump_energy", &[("pump", "p2")], 60, Behaviour::pump(7.5));
        for (outcome, hourly) in [("done", 7.0), ("refused", 0.25), ("timeout", 0.12)] {
            add("gate_commands", &[("outcome", outcome)], 300, Behaviour::boats(hourly));
        }
        add("water_temp", &[], 120, Behaviour::Temperature { base: 12.5 - index as f64 * 0.1 });
        add("turbidity", &[], 300, Behaviour::Turbidity);
        add("battery", &[], 600, Behaviour::battery());
    }
    let lockages = LOCKS.into_iter().enumerate().map(|(index, (lock, reach))| SeriesPlan {
        metric: "lockage_time",
        tags: vec![("lock", lock), ("reach", reach)],
        step: 900 * SECOND,
        delay: 0,
        jitter: 0,
        behaviour: Behaviour::Lockages { usual: 420.0 + 15.0 * (index % 5) as f64, last: 0.0 },
        lock: index,
    });
    all.extend(lockages);
    for plan in &mut all {
        if plan.metric == "flow" {
            plan.jitter = SECOND / 20;
        }
        // The probe at Copper sends over a slow link.
        if plan.metric == "turbidity" && LOCKS[plan.lock].0 == "copper" {
            plan.delay = 20 * 60 * SECOND;
        }
    }
    all
}
