//! A metric and the series that a condition leaves: names looked up, tags and patterns checked, the closest known name offered.

use std::collections::BTreeMap;

use super::{LinePlan, PlanError, PlannedSeries};
use crate::{
    catalogue::{Codes, Dataset, Metric, Series, whole_pattern},
    model::{Kind, LineTags, MetricTraits},
    query::{Condition, Grouping, QueryError, Selection, TagMatch, TagTest, ValueTest},
    selection::{check, check_tag, key_of_today, note_rename, split, with_keys_of_today},
    suggest::{closest, hint, listing},
    visibility::VisibleCatalogue,
};

/// A selection that was looked up.
pub struct Found<'c> {
    pub dataset: &'c Dataset,
    pub metric: &'c Metric,
    pub series: Vec<&'c Series>,
    pub tests: Vec<ValueTest>,
}

pub fn find_dataset<'a>(catalogue: VisibleCatalogue<'a>, name: &str, notes: &mut Vec<String>) -> Result<&'a Dataset, PlanError> {
    let found = catalogue
        .dataset_by_any_name(name)
        .ok_or_else(|| PlanError::NoDataset { name: name.to_owned(), known: hint(name, catalogue.datasets().map(|dataset| &*dataset.name), 10) })?;
    note_rename("dataset", name, &found.name, notes);
    Ok(found)
}

/// Looks a selection up; the names that `let` gave are offered where a metric's is not known.
pub fn find<'c>(
    selection: &Selection,
    lets: &[&str],
    catalogue: VisibleCatalogue<'c>,
    home: &'c Dataset,
    notes: &mut Vec<String>,
) -> Result<Found<'c>, QueryError> {
    let (dataset, metric) = find_metric(selection, lets, catalogue, home, notes)?;
    let condition = selection.condition.clone().map(|condition| with_keys_of_today(condition, dataset, metric, notes));
    let (tags, tests) = match condition {
        Some(condition) => {
            check(&condition, dataset, metric)?;
            split(condition)?
        }
        None => (None, Vec::new()),
    };
    if let (Some(test), Kind::State | Kind::Histogram) = (tests.first(), metric.definition.kind) {
        let error = QueryError::new(test.comparison.place, format!("`{}` is a {}: its values are not numbers", metric.name, metric.definition.kind));
        return Err(error.with_help("choose its series by their tags; time in a state is `time_in(\"…\") of …`"));
    }
    let series = dataset.matching_by_id(metric, tags.as_ref());
    if series.is_empty() {
        notes.push(nothing_matched(tags.as_ref(), dataset, metric));
    }
    Ok(Found { dataset, metric, series, tests })
}

impl Found<'_> {
    /// What the engine must know of the metric.
    pub fn facts(&self) -> MetricTraits {
        MetricTraits::of(self.metric)
    }

    /// Its series as lines, in order of their tags.
    pub fn lines(&self, grouping: &Grouping, notes: &mut Vec<String>) -> Result<Vec<LinePlan>, QueryError> {
        let kind = self.metric.definition.kind;
        Ok(match grouping {
            Grouping::Apart => {
                let mut series = self.series.clone();
                series.sort_by(|a, b| a.tags.cmp(&b.tags));
                series.iter().map(|one| line(one.tags.to_line(), &[one], kind)).collect()
            }
            Grouping::Overall if self.series.is_empty() => Vec::new(),
            Grouping::Overall => vec![line(LineTags::new(), &self.series, kind)],
            Grouping::By(tags) => {
                let tags: Vec<_> = tags.iter().map(|tag| key_of_today(tag.clone(), self.dataset, self.metric, notes)).collect();
                tags.iter().try_for_each(|tag| check_tag(tag, self.dataset, self.metric))?;
                let mut groups: BTreeMap<LineTags, Vec<&Series>> = BTreeMap::new();
                for one in &self.series {
                    let shared = tags.iter().filter_map(|tag| one.tags.get(tag.value.as_str()).cloned()).collect();
                    groups.entry(shared).or_default().push(one);
                }
                groups.into_iter().map(|(tags, series)| line(tags, &series, kind)).collect()
            }
        })
    }
}

fn find_metric<'a>(
    selection: &Selection,
    lets: &[&str],
    catalogue: VisibleCatalogue<'a>,
    home: &'a Dataset,
    notes: &mut Vec<String>,
) -> Result<(&'a Dataset, &'a Metric), QueryError> {
    let place = selection.metric.place;
    let wanted = &selection.metric.value;
    let dataset = match &wanted.dataset {
        None => home,
        Some(name) => {
            let found = catalogue.dataset_by_any_name(name).ok_or_else(|| {
                let hint = hint(name, catalogue.datasets().map(|dataset| &*dataset.name), 10);
                QueryError::new(place, format!("there is no dataset `{name}`")).with_help(hint)
            })?;
            note_rename("dataset", name, &found.name, notes);
            found
        }
    };
    let metric = catalogue.metric_by_any_name(dataset, &wanted.metric).ok_or_else(|| {
        let names = || catalogue.metrics(dataset).map(|metric| &*metric.name);
        let error = QueryError::new(place, format!("the dataset `{}` has no metric `{}`", dataset.name, wanted.metric));
        if wanted.dataset.is_none() && lets.contains(&wanted.metric.as_str()) {
            return error.with_help(format!("`{}` is defined by a `let`: put `where` and `earlier` into that `let`", wanted.metric));
        }
        let elsewhere =
            catalogue.datasets().find(|other| wanted.dataset.is_none() && catalogue.metrics(other).any(|metric| *metric.name == *wanted.metric));
        match closest(&wanted.metric, names().chain(lets.iter().copied())) {
            _ if let Some(other) = elsewhere => {
                error.with_help(format!("the dataset `{}` has one: ask that one, or write {}::{}", other.name, other.name, wanted.metric))
            }
            Some(known) => error.with_help(format!("did you mean `{known}`?")),
            None if names().next().is_none() => error.with_help("it has no metrics yet: push or import some points first"),
            None => error.with_help(format!("it has {}", listing(names(), 12))),
        }
    })?;
    note_rename("metric", &wanted.metric, &metric.name, notes);
    Ok((dataset, metric))
}

/// A note where no series matched, with the closest value of each tag that has none of the values asked for.
fn nothing_matched(condition: Option<&Condition>, dataset: &Dataset, metric: &Metric) -> String {
    let mut hints = Vec::new();
    if let Some(condition) = condition {
        collect_hints(condition, dataset, metric, &mut hints);
    }
    let hints = if hints.is_empty() { String::new() } else { format!(": {}", hints.join("; ")) };
    format!("no series of `{}` matches{hints}", metric.name)
}

fn collect_hints(condition: &Condition, dataset: &Dataset, metric: &Metric, hints: &mut Vec<String>) {
    let values_of = |tag: &str| {
        let mut values: Vec<&str> = dataset.values_with_counts(tag, Some(metric)).into_iter().map(|(value, _)| value).collect();
        values.sort_unstable();
        values
    };
    match condition {
        Condition::All(parts) | Condition::Any(parts) => parts.iter().for_each(|part| collect_hints(part, dataset, metric, hints)),
        Condition::Is(TagTest { tag, texts, negated: false, .. }) => {
            let values = values_of(&tag.value);
            for text in texts.iter().filter(|text| !values.contains(&text.value.as_str())) {
                let nearest = match closest(&text.value, values.iter().copied()) {
                    Some(value) => format!("did you mean \"{value}\"?"),
                    None => format!("it has {}", listing(values.iter().copied(), 8)),
                };
                hints.push(format!("none has {} = \"{}\", {nearest}", tag.value, text.value));
            }
        }
        Condition::Matches(TagMatch { tag, pattern, negated: false }) => {
            let values = values_of(&tag.value);
            if whole_pattern(&pattern.value).is_ok_and(|pattern| !values.iter().any(|value| pattern.is_match(value))) {
                hints.push(format!("no value of {} matches \"{}\" as a whole; its values are {}", tag.value, pattern.value, listing(values, 8)));
            }
        }
        _ => {}
    }
}

fn line(tags: LineTags, series: &[&Series], kind: Kind) -> LinePlan {
    let empty = match kind {
        Kind::State => Some(Codes::Words(Vec::new())),
        Kind::Histogram => Some(Codes::Layouts(Vec::new())),
        Kind::Gauge | Kind::Counter => None,
    };
    let planned = |one: &&Series| PlannedSeries { id: one.id, codes: empty.as_ref().map(|empty| one.codes.as_deref().unwrap_or(empty).clone()) };
    LinePlan { tags, series: series.iter().map(planned).collect() }
}
