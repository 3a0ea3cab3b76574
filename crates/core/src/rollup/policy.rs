//! Rollup policies: which metrics of a dataset are rolled up into which levels, and how long each level is kept.

use jiff::tz::TimeZone;

use super::level::{Level, LevelError};
use crate::{
    catalogue::{Dataset, Metric},
    model::RollupPolicy,
    pattern::fits,
    query::{Condition, parse_condition},
    selection::selected_series,
    time::{Span, zone},
};

/// Why a policy cannot be.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PolicyError {
    /// Its levels.
    #[error(transparent)]
    Level(#[from] LevelError),
    /// Something else.
    #[error("{0}")]
    Other(String),
}

const MAX_LEVELS: usize = 8;

impl RollupPolicy {
    /// Checks whether its parts make sense.
    ///
    /// # Errors
    /// [`PolicyError`].
    pub fn check(&self) -> Result<(), PolicyError> {
        if self.levels.is_empty() || self.levels.len() > MAX_LEVELS {
            return Err(PolicyError::Other(format!("a rollup policy has 1 to {MAX_LEVELS} levels, such as 5m, 1h and 1d, the finest first")));
        }
        if let Some(name) = &self.zone {
            zone(name).map_err(|error| PolicyError::Other(error.to_string()))?;
        }
        let levels = self.levels.iter().map(|level| Level::new(level.width, TimeZone::UTC)).collect::<Result<Vec<_>, _>>()?;
        levels.windows(2).try_for_each(|pair| pair[1].check_above(&pair[0]))?;
        for (pair, levels) in self.levels.windows(2).zip(levels.windows(2)) {
            let is_shorter = |fine: Option<Span>, coarse: Option<Span>| match (fine, coarse) {
                (None, Some(_)) => true,
                (Some(fine), Some(coarse)) => coarse.before(0, &TimeZone::UTC) > fine.before(0, &TimeZone::UTC),
                _ => false,
            };
            if is_shorter(pair[0].keep_for, pair[1].keep_for) {
                let text = format!(
                    "the level of {} has a shorter retention than the finer level of {}, so it would never be used",
                    levels[1].width(),
                    levels[0].width()
                );
                return Err(PolicyError::Other(text));
            }
        }
        self.parsed().map(|_| ())
    }

    fn parsed(&self) -> Result<Option<Condition>, PolicyError> {
        let parse = |text: &String| parse_condition(text).map_err(|error| PolicyError::Other(format!("where: {}", error.message)));
        self.condition.as_ref().map(parse).transpose()
    }

    /// Its levels with their zone, the finest first, and how long each is kept. Of a policy that was checked.
    pub fn levels(&self, dataset: &Dataset) -> Vec<(Level, Option<Span>)> {
        let name = self.zone.as_deref().unwrap_or(&dataset.definition.zone);
        let tz = zone(name).unwrap_or(TimeZone::UTC);
        self.levels.iter().filter_map(|level| Some((Level::new(level.width, tz.clone()).ok()?, level.keep_for))).collect()
    }

    /// Whether a metric is one of those that it is about.
    pub fn takes(&self, metric: &Metric) -> bool {
        self.metrics.is_empty() || self.metrics.iter().any(|pattern| fits(pattern, &metric.name))
    }

    /// Ids of a metric's series that it is about; all of them where it does not say which.
    pub fn members(&self, dataset: &Dataset, metric: &Metric) -> roaring::RoaringBitmap {
        let all: roaring::RoaringBitmap = metric.series().map(|series| series.0).collect();
        match self.parsed() {
            Ok(None) => all,
            // A tag that was renamed or never came takes nobody.
            Ok(Some(condition)) => {
                selected_series(Some(&condition), dataset, metric).map(|found| found.into_iter().map(|series| series.0).collect()).unwrap_or_default()
            }
            Err(_) => roaring::RoaringBitmap::new(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn policy(text: &str) -> RollupPolicy {
        serde_json::from_str(text).unwrap()
    }

    #[test]
    fn invalid_policies_are_explained() {
        policy(r#"{"levels":[{"width":"5m","keep_for":"90d"},{"width":"1h","keep_for":"2y"},{"width":"1d"}],"where":"reach = \"upper\"","zone":"Europe/Lisbon"}"#).check().unwrap();
        for (text, wanted) in [
            (r#"{"levels":[]}"#, "1 to 8 levels"),
            (r#"{"levels":[{"width":"1h"},{"width":"5m"}]}"#, "not a multiple of"),
            (r#"{"levels":[{"width":"2d"}]}"#, "invalid level width `2d`"),
            (r#"{"levels":[{"width":"5m"},{"width":"1h","keep_for":"30d"}]}"#, "shorter retention"),
            (r#"{"levels":[{"width":"5m"}],"where":"reach ="}"#, "where:"),
            (r#"{"levels":[{"width":"5m"}],"zone":"Velmar/Osier"}"#, "zone"),
        ] {
            let message = policy(text).check().unwrap_err().to_string();
            assert!(message.contains(wanted), "{message}");
        }
        assert_eq!(policy(r#"{"levels":[{"width":"5m"}]}"#).lateness_nanos(), 600_000_000_000);
    }
}
