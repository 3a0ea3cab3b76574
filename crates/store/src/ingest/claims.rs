//! What a body says of metrics beside its points: kind, unit, description; and how its values become values in each metric's own unit.

use std::collections::BTreeMap;

use fenetre_core::{
    model::{About, Cause, Histogram, Kind, MetricDefinition, Refusal},
    units::{Conversion, Fit, describe_unknown, fit},
};
use hashbrown::HashMap;

/// How the values of a metric are taken.
#[derive(Clone, Debug, PartialEq)]
pub enum UnitRule {
    /// As they come.
    Same,
    /// Converted to the metric's unit.
    Converted(Conversion),
    /// Not at all.
    Unfit {
        /// The unit in which they come.
        from: String,
        /// The metric's.
        to: String,
    },
}

/// Place of a metric's rule; 0 is that of metrics of which no unit was stated.
pub type RuleId = u32;

struct Claim {
    unit: Option<String>,
    rule: RuleId,
}

/// What the bodies of one batch say.
pub struct Claims {
    rules: Vec<UnitRule>,
    by_metric: HashMap<String, Claim>,
    /// The unit that each metric has, or gets, of which a unit was stated.
    pub assumed: BTreeMap<String, String>,
}

impl Default for Claims {
    fn default() -> Self {
        Self { rules: vec![UnitRule::Same], by_metric: HashMap::new(), assumed: BTreeMap::new() }
    }
}

/// What follows from what a body says of a metric.
#[derive(Default)]
pub struct Verdict {
    /// The definition, completed.
    pub definition: MetricDefinition,
    /// What the sender should know.
    pub notes: Vec<String>,
    /// What the catalogue says otherwise, and keeps.
    pub contradictions: Vec<String>,
}

impl Claims {
    /// How values of a metric are taken.
    pub fn rule_of(&self, metric: &str) -> RuleId {
        self.by_metric.get(metric).map_or(0, |claim| claim.rule)
    }

    /// Whether this was the last metadata of the metric.
    pub fn is_repeated(&self, metric: &str, unit: Option<&str>) -> bool {
        self.by_metric.get(metric).is_some_and(|claim| claim.unit.as_deref() == unit)
    }

    /// Whether the metric has no metadata so far.
    pub fn is_first(&self, metric: &str) -> bool {
        !self.by_metric.contains_key(metric)
    }

    /// Whether values of the metric are refused because of their unit.
    pub fn is_unfit(&self, metric: &str) -> bool {
        matches!(self.rules.get(self.rule_of(metric) as usize), Some(UnitRule::Unfit { .. }))
    }

    fn set_rule(&mut self, metric: &str, unit: Option<&str>, rule: UnitRule) {
        let known = self.rule_of(metric);
        let id = match (known, &rule) {
            (0, UnitRule::Same) => 0,
            (0, _) => {
                self.rules.push(rule);
                (self.rules.len() - 1) as RuleId
            }
            (known, _) => {
                self.rules[known as usize] = rule;
                known
            }
        };
        self.by_metric.insert(metric.to_owned(), Claim { unit: unit.map(str::to_owned), rule: id });
    }

    /// Takes in the stated unit: it is the metric's, if this has none yet; otherwise values are converted from it.
    pub fn take_unit(&mut self, metric: &str, unit: Option<&str>, is_new: bool, verdict: &mut Verdict) {
        let Verdict { definition, notes, .. } = verdict;
        let rule = match (unit.filter(|_| definition.kind != Kind::State), &definition.unit) {
            (None, _) => UnitRule::Same,
            (Some(unit), None) => {
                if !is_new && !definition.unreviewed {
                    notes.push(format!("`{metric}` had no unit: it is in {unit} now"));
                }
                notes.extend(describe_unknown(unit).map(|text| format!("`{metric}`: {text}")));
                self.assumed.insert(metric.to_owned(), unit.to_owned());
                definition.unit = Some(unit.to_owned());
                UnitRule::Same
            }
            (Some(unit), Some(own)) => {
                self.assumed.insert(metric.to_owned(), own.clone());
                match fit(unit, own) {
                    Fit::Same => UnitRule::Same,
                    // What a counter counts has no zero but its own.
                    Fit::Converted(conversion) if definition.kind != Kind::Counter || conversion.offset == 0.0 => {
                        notes.push(format!("`{metric}`: values in {unit} are converted to {own}"));
                        UnitRule::Converted(conversion)
                    }
                    _ => UnitRule::Unfit { from: unit.to_owned(), to: own.clone() },
                }
            }
        };
        self.set_rule(metric, unit, rule);
    }

    /// A number in the metric's unit, with what is missing to the integer that it stands for.
    pub fn number(&self, rule: RuleId, name: &str, (value, rest): (f64, i16)) -> Result<(f64, i16), Refusal> {
        match &self.rules[rule as usize] {
            UnitRule::Same => Ok((value, rest)),
            UnitRule::Converted(conversion) => Ok((conversion.apply(value + f64::from(rest)), 0)),
            UnitRule::Unfit { from, to } => Err(unfit(name, from, to)),
        }
    }

    /// A histogram whose bounds and sum are in the metric's unit.
    pub fn histogram(&self, rule: RuleId, name: &str, histogram: &Histogram) -> Result<Histogram, Refusal> {
        match &self.rules[rule as usize] {
            UnitRule::Same => Ok(histogram.clone()),
            UnitRule::Converted(conversion) => Ok(Histogram {
                bounds: histogram.bounds.iter().map(|bound| conversion.apply(*bound)).collect(),
                counts: histogram.counts.clone(),
                sum: Conversion { offset: conversion.offset * histogram.count() as f64, ..*conversion }.apply(histogram.sum),
            }),
            UnitRule::Unfit { from, to } => Err(unfit(name, from, to)),
        }
    }
}

fn unfit(name: &str, from: &str, to: &str) -> Refusal {
    Refusal::of(Cause::Unit, name, format!("has values in {from}, which cannot be converted to the unit of the metric, {to}"))
}

/// What a body says of a metric that has a definition, or would get this one.
pub fn judge(mut definition: MetricDefinition, about: About<'_>, is_new: bool) -> Verdict {
    let mut contradictions = Vec::new();
    if let Some(kind) = about.kind.filter(|kind| *kind != definition.kind) {
        contradictions.push(format!("the body has the kind {kind}, the catalogue {}", definition.kind));
    }
    if let Some(description) = about.description.filter(|_| definition.description.is_empty()) {
        definition.description = description.chars().filter(|c| !c.is_control()).take(1_000).collect();
    }
    if is_new || definition.unreviewed {
        definition.temporality = definition.temporality.or(about.temporality).filter(|_| matches!(definition.kind, Kind::Counter | Kind::Histogram));
    } else if let (Some(stated), Some(known)) = (about.temporality, definition.temporality())
        && stated != known
    {
        contradictions.push("the body has another temporality than the catalogue".to_owned());
    }
    Verdict { definition, notes: Vec::new(), contradictions }
}
