//! Which rollup levels can answer a leaf, as far as definitions tell; how far each reaches is for the store to say.

use std::sync::Arc;

use jiff::tz::TimeZone;

use super::{PlanError, PlannedTime, Take, frame::Fault};
use crate::{
    catalogue::{Dataset, Metric, Series},
    model::MetricTraits,
    query::{QueryError, ReadFrom, TextSpan, ValueTest},
    rollup::{Level, Use, use_of},
    suggest::listing,
    time::Span,
};

/// A level that can answer a leaf.
#[derive(Clone, Debug, PartialEq)]
pub struct LevelPlan {
    /// The policy that it belongs to.
    pub policy: Arc<str>,
    /// Where its windows lie.
    pub level: Level,
}

/// From what a leaf is read.
#[derive(Clone, Debug, PartialEq)]
pub struct From {
    /// Levels that can answer it, the coarsest first.
    pub levels: Vec<LevelPlan>,
    /// How windows answer its reducer, where they do.
    pub by_windows: Option<Use>,
    /// What the query forces.
    pub forced: Option<ReadFrom>,
    /// Why there are no levels, where there could be.
    pub why_not: Option<&'static str>,
}

/// What is asked of a metric.
pub struct Asked<'a> {
    pub dataset: &'a Dataset,
    pub metric: &'a Metric,
    pub series: &'a [&'a Series],
    pub facts: &'a MetricTraits,
    pub take: &'a Take,
    pub tests: &'a [ValueTest],
    pub time: &'a PlannedTime,
    /// How long before each window, by the calendar of a zone.
    pub earlier: Option<(Span, &'a TimeZone)>,
}

/// A clause that names the source, its place, and how an error in it is reported.
pub type Clause = (ReadFrom, TextSpan, Fault);

impl Asked<'_> {
    /// From what it is read.
    pub fn from(&self, clause: Option<&Clause>) -> Result<From, PlanError> {
        let forced = clause.map(|(source, ..)| *source);
        let by_windows = match self.take {
            Take::Reduced(reducer) => use_of(reducer, self.facts),
            Take::Moment | Take::Points => None,
        };
        let why_not = match self.take {
            Take::Points => Some("points are asked for"),
            Take::Moment => Some("the query asks for the points around an instant"),
            Take::Reduced(_) if by_windows.is_none() => Some("this reducer needs points"),
            Take::Reduced(_) if !self.tests.is_empty() => Some("points are filtered by value"),
            Take::Reduced(_) => None,
        };
        let all = self.all_levels();
        if let Some((ReadFrom::Level(width), place, fault)) = clause {
            return self
                .forced_level(*width, &all, why_not)
                .map(|level| From { levels: vec![level], by_windows, forced, why_not: None })
                .map_err(|(message, help)| fault(QueryError::new(*place, message).with_help(help)));
        }
        let levels = if why_not.is_some() || forced.is_some() { Vec::new() } else { all };
        Ok(From { levels, by_windows, forced, why_not })
    }

    /// Levels of the policies that all of the series belong to, the coarsest first.
    fn all_levels(&self) -> Vec<LevelPlan> {
        let mut levels = Vec::new();
        for (name, policy) in &self.dataset.rollups {
            if !policy.takes(self.metric) {
                continue;
            }
            let members = policy.members(self.dataset, self.metric);
            if self.series.iter().all(|series| members.contains(series.id.0)) {
                let name: Arc<str> = name.as_str().into();
                levels.extend(policy.levels(self.dataset).into_iter().map(|(level, _)| LevelPlan { policy: Arc::clone(&name), level }));
            }
        }
        levels.sort_by_key(|level| std::cmp::Reverse(level.level.nominal()));
        levels
    }

    fn forced_level(&self, width: Span, all: &[LevelPlan], why_not: Option<&'static str>) -> Result<LevelPlan, (String, String)> {
        let metric = &self.facts.metric;
        if let Some(why) = why_not {
            return Err((format!("`{metric}` cannot be answered from a rollup here: {why}"), "leave the clause out, or write `from raw`".to_owned()));
        }
        let Some(level) = all.iter().find(|level| level.level.width() == width) else {
            let there: Vec<String> = all.iter().map(|level| level.level.width().to_string()).collect();
            let help = match there.as_slice() {
                [] => "no rollup policy takes all of these series: leave the clause out, or make one with `fenetre rollup set`".to_owned(),
                there => format!("it has {}", listing(there.iter().map(String::as_str), 8)),
            };
            return Err((format!("there is no rollup of {width} for `{metric}`"), help));
        };
        let shifted = match (self.time, self.earlier) {
            (PlannedTime::Windows(windows, _), Some((span, zone))) => Some(windows.earlier(span, zone)),
            _ => None,
        };
        let bounds = match (&shifted, self.time) {
            (Some(windows), _) | (None, PlannedTime::Windows(windows, _)) => windows.bounds(),
            (None, PlannedTime::Moments(_)) => &[],
        };
        let inner = bounds.get(1..bounds.len().saturating_sub(1)).unwrap_or_default();
        if !inner.iter().all(|border| level.level.is_border(*border)) {
            let help = match (&shifted, self.earlier) {
                (Some(_), Some((span, _))) => format!("the windows {span} earlier must be made of whole windows of {width} too"),
                _ => format!("use windows that are multiples of {width}, such as `per {width}`"),
            };
            return Err((format!("these windows do not align with windows of {width}"), help));
        }
        Ok(level.clone())
    }
}
