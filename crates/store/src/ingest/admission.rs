//! Which points and series a dataset admits: instants within retention and not too far ahead, tags that follow its rules, limits on series.

use std::collections::{HashMap, HashSet};

use fenetre_core::{
    catalogue::Dataset,
    model::{Cause, MAX_TAGS, Refusal, check_name, check_tag_value},
    suggest::hint,
    time::{Nanos, format_utc},
};

use crate::limits::horizons::Horizons;

/// The rules for one batch, and how much of their limits it has used.
pub struct Admission {
    /// Points after this are rejected.
    pub latest: Nanos,
    /// Points before these are no longer kept.
    pub horizons: Horizons,
    /// New series of each metric, and new values of each tag, which count towards limits.
    new_of_metric: HashMap<String, u32>,
    new_series: usize,
    new_values: HashSet<(String, String)>,
    patterns: HashMap<String, Option<regex::Regex>>,
}

impl Default for Admission {
    fn default() -> Self {
        Self {
            latest: Nanos::MAX,
            horizons: Horizons::default(),
            new_of_metric: HashMap::new(),
            new_series: 0,
            new_values: HashSet::new(),
            patterns: HashMap::new(),
        }
    }
}

impl Admission {
    /// Whether an undefined metric is admitted.
    pub fn check_metric(dataset: &Dataset, name: &str) -> Result<(), Refusal> {
        check_name(name).map_err(|error| Refusal::of(Cause::Tag, "metric", format!("the name {error}")))?;
        if !dataset.definition.closed {
            return Ok(());
        }
        let known = || dataset.metrics().map(|metric| &*metric.name);
        let hint = hint(name, known(), 8);
        let text = format!("the dataset `{}` is closed and has no metric `{name}`: {hint} (define it first, or open the dataset)", dataset.name);
        Err(Refusal::of(Cause::Unknown, "metric", text))
    }

    /// Whether an instant is within retention and not too far ahead; `earliest` is the first instant that its metric keeps.
    pub fn check_time(&self, dataset: &str, metric: &str, time: Nanos, earliest: Nanos) -> Result<(), Refusal> {
        if time < earliest {
            let (time, earliest) = (format_utc(time), format_utc(earliest));
            let text = format!(
                "{time} is before the retention limit: `{metric}` keeps points from {earliest} (see `fenetre retention show {dataset}`, change it with `fenetre retention set`)"
            );
            return Err(Refusal::of(Cause::Past, "time", text));
        }
        if time <= self.latest {
            return Ok(());
        }
        let (time, latest) = (format_utc(time), format_utc(self.latest));
        let text = format!(
            "{time} is too far in the future: points after {latest} are rejected (wrong time unit? the limit is `max_future` under [limits])"
        );
        Err(Refusal::of(Cause::Future, "time", text))
    }
    /// Whether a new series follows the rules of its dataset and of its tags. Counts it.
    pub fn check_series(&mut self, dataset: &Dataset, metric: &str, tags: &[(String, String)]) -> Result<(), Refusal> {
        check_tags(tags)?;
        self.check_limits(dataset, metric)?;
        let rules = &dataset.definition;
        if let Some(most) = rules.max_tags.filter(|most| tags.len() > *most as usize) {
            return Err(Refusal::of(Cause::Tag, "tags", format!("there are {} tags, the dataset allows {most}", tags.len())));
        }
        for (key, value) in tags {
            let refuse = |cause: Cause, reason: String| Err(Refusal::of(cause, key, reason));
            if let Some(longest) = rules.max_tag_value_bytes.filter(|longest| value.len() > *longest as usize) {
                return refuse(Cause::Tag, format!("the tag's value is {} bytes long, the dataset allows {longest}", value.len()));
            }
            if rules.closed && !dataset.knows_tag(key) {
                let hint = hint(key, dataset.tag_keys(), 8);
                return refuse(Cause::Unknown, format!("the dataset `{}` is closed and has no tag `{key}`: {hint}", dataset.name));
            }
            let Some(tag) = dataset.tag_definitions.get(key) else { continue };
            if !tag.allowed.is_empty() && !tag.allowed.contains(value) {
                let known = || tag.allowed.iter().map(String::as_str);
                let hint = hint(value, known(), 8);
                return refuse(Cause::Tag, format!("`{value}` is not an allowed value of the tag: {hint}"));
            }
            if let Some(pattern) = &tag.pattern {
                let compiled = self.patterns.entry(key.clone()).or_insert_with(|| tag.pattern().ok().flatten());
                if compiled.as_ref().is_some_and(|compiled| !compiled.is_match(value)) {
                    return refuse(Cause::Tag, format!("`{value}` does not match the tag's pattern `{pattern}`"));
                }
            }
            if let Some(most) = tag.max_values
                && !dataset.has_value(key, value)
                && !self.new_values.contains(&(key.clone(), value.clone()))
            {
                let new = self.new_values.iter().filter(|(of, _)| of == key).count();
                if dataset.values_of(key) + new >= most as usize {
                    return refuse(
                        Cause::Limit,
                        format!("the tag already has {most} values, which is its maximum, and `{value}` would be a new one"),
                    );
                }
                self.new_values.insert((key.clone(), value.clone()));
            }
        }
        let lacking = dataset.tag_definitions.iter().find(|(key, tag)| tag.required && !tags.iter().any(|(known, _)| known == *key));
        if let Some((key, _)) = lacking {
            return Err(Refusal::of(Cause::Tag, key, format!("the required tag `{key}` is missing (a rule of the dataset `{}`)", dataset.name)));
        }
        self.new_series += 1;
        *self.new_of_metric.entry(metric.to_owned()).or_default() += 1;
        Ok(())
    }

    fn check_limits(&self, dataset: &Dataset, metric: &str) -> Result<(), Refusal> {
        let rules = &dataset.definition;
        if let Some(most) = rules.max_series.filter(|most| dataset.series_count() + self.new_series >= *most as usize) {
            let text = format!(
                "the dataset `{}` has {most} series, which is its maximum. Existing series still accept points (raise `max_series` or remove a tag)",
                dataset.name
            );
            return Err(Refusal::of(Cause::Limit, "tags", text));
        }
        let known = dataset.metric(metric);
        let most = known.and_then(|known| known.definition.max_series).or(rules.max_series_per_metric);
        let there = known.map_or(0, |known| known.series_count()) + u64::from(self.new_of_metric.get(metric).copied().unwrap_or(0));
        match most.filter(|most| there >= u64::from(*most)) {
            Some(most) => {
                let text = format!(
                    "`{metric}` has {most} series, which is its maximum. Existing series still accept points (raise `max_series` or remove a tag)"
                );
                Err(Refusal::of(Cause::Limit, "tags", text))
            }
            None => Ok(()),
        }
    }
}

/// Rules for the tags of any series.
fn check_tags(tags: &[(String, String)]) -> Result<(), Refusal> {
    if tags.len() > MAX_TAGS {
        return Err(Refusal::of(Cause::Tag, "tags", format!("there are {} tags, the limit is {MAX_TAGS}", tags.len())));
    }
    for (i, (key, value)) in tags.iter().enumerate() {
        check_name(key).map_err(|error| Refusal::of(Cause::Tag, "tags", format!("a tag's key {error}")))?;
        check_tag_value(value).map_err(|error| Refusal::of(Cause::Tag, key, format!("the tag's value {error}")))?;
        if tags[..i].iter().any(|(other, _)| other == key) {
            return Err(Refusal::of(Cause::Tag, key, "the tag is given twice"));
        }
    }
    Ok(())
}
