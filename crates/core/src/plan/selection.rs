//! A metric and the series that a condition leaves: names looked up, tags and patterns checked, the closest known name offered.

use std::collections::BTreeMap;

use super::{Facts, LinePlan, PlanError, PlannedSeries};
use crate::{
    catalogue::{Catalogue, Codes, Dataset, Metric, Series, whole_pattern},
    model::{Kind, LineTags, SeriesId, Temporality},
    query::{Condition, Grouping, QueryError, Selection, Spanned, TagMatch, TagTest, ValueTest},
    suggest::{closest, listing},
};

/// A selection that was looked up.
pub struct Found<'c> {
    pub dataset: &'c Dataset,
    pub metric: &'c Metric,
    pub series: Vec<&'c Series>,
    pub tests: Vec<ValueTest>,
}

/// The series that a condition, as it stands behind `where`, leaves of a metric.
///
/// # Errors
/// [`QueryError`] for tags that the metric does not have, patterns that are none, and conditions on values.
pub fn selected_series(condition: Option<&Condition>, dataset: &Dataset, metric: &Metric) -> Result<Vec<SeriesId>, QueryError> {
    let Some(condition) = condition else { return Ok(metric.series().collect()) };
    let condition = with_keys_of_today(condition.clone(), dataset, metric, &mut Vec::new());
    check(&condition, dataset, metric)?;
    let (tags, tests) = split(condition)?;
    if let Some(test) = tests.first() {
        return Err(QueryError::new(test.comparison.place, "series are chosen by their tags here, not points by their values"));
    }
    Ok(dataset.matching_by_id(metric, tags.as_ref()).iter().map(|series| series.id).collect())
}

pub fn find_dataset<'a>(catalogue: &'a Catalogue, name: &str, notes: &mut Vec<String>) -> Result<&'a Dataset, PlanError> {
    let found = catalogue
        .dataset_by_any_name(name)
        .ok_or_else(|| PlanError::NoDataset { name: name.to_owned(), known: listing(catalogue.datasets().map(|dataset| &*dataset.name), 10) })?;
    note_rename("dataset", name, &found.name, notes);
    Ok(found)
}

/// A note where an old name answered.
fn note_rename(noun: &str, asked: &str, name: &str, notes: &mut Vec<String>) {
    if asked != name {
        let note = format!("the {noun} `{asked}` is called `{name}` now");
        if !notes.contains(&note) {
            notes.push(note);
        }
    }
}

/// Looks a selection up; the names that `let` gave are offered where a metric's is not known.
pub fn find<'c>(
    selection: &Selection,
    lets: &[&str],
    catalogue: &'c Catalogue,
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
        let error = QueryError::new(test.comparison.place, format!("`{}` is a {}: its values are no numbers", metric.name, metric.definition.kind));
        return Err(error.with_help("choose its series by their tags; time in a state is `time_in(\"…\") of …`"));
    }
    let series = dataset.matching_by_id(metric, tags.as_ref());
    if series.is_empty() {
        notes.push(nothing_matched(tags.as_ref(), dataset, metric));
    }
    Ok(Found { dataset, metric, series, tests })
}

impl Facts {
    /// What the engine must know of a metric.
    pub fn of(metric: &Metric) -> Self {
        let definition = &metric.definition;
        let nanos = |span: Option<crate::time::Span>| {
            span.map(|span| span.nanos.saturating_add(i64::from(span.days) * DAY + i64::from(span.months) * 30 * DAY))
        };
        Self {
            metric: metric.name.clone(),
            kind: definition.kind,
            shape: definition.shape,
            temporality: definition.temporality.unwrap_or(if definition.kind == Kind::Histogram {
                Temporality::Delta
            } else {
                Temporality::Cumulative
            }),
            stale_after: nanos(definition.stale_after),
            interval: nanos(definition.interval),
        }
    }
}

impl Found<'_> {
    /// What the engine must know of the metric.
    pub fn facts(&self) -> Facts {
        Facts::of(self.metric)
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

const DAY: i64 = 86_400 * crate::time::SECOND;

/// A tag that has another key now than the one that the query names.
fn key_of_today(mut tag: Spanned<String>, dataset: &Dataset, metric: &Metric, notes: &mut Vec<String>) -> Spanned<String> {
    if let Some(key) = dataset.renamed_tag(&tag.value)
        && !dataset.tags(Some(metric)).iter().any(|known| known.key == tag.value)
    {
        note_rename("tag", &tag.value, key, notes);
        tag.value = key.to_owned();
    }
    tag
}

fn with_keys_of_today(condition: Condition, dataset: &Dataset, metric: &Metric, notes: &mut Vec<String>) -> Condition {
    if !dataset.has_renamed_tags() {
        return condition;
    }
    let mut key = |tag| key_of_today(tag, dataset, metric, notes);
    match condition {
        Condition::Is(test) => Condition::Is(TagTest { tag: key(test.tag), ..test }),
        Condition::Matches(test) => Condition::Matches(TagMatch { tag: key(test.tag), ..test }),
        Condition::Has(tag) => Condition::Has(key(tag)),
        Condition::Lacks(tag) => Condition::Lacks(key(tag)),
        Condition::Value(test) => Condition::Value(test),
        Condition::Not(inner) => Condition::Not(Box::new(with_keys_of_today(*inner, dataset, metric, notes))),
        Condition::All(parts) => Condition::All(parts.into_iter().map(|part| with_keys_of_today(part, dataset, metric, notes)).collect()),
        Condition::Any(parts) => Condition::Any(parts.into_iter().map(|part| with_keys_of_today(part, dataset, metric, notes)).collect()),
    }
}

/// What is asked of tags, and what of values.
fn split(condition: Condition) -> Result<(Option<Condition>, Vec<ValueTest>), QueryError> {
    let parts = match condition {
        Condition::All(parts) => parts,
        other => vec![other],
    };
    let (mut tags, mut tests) = (Vec::new(), Vec::new());
    for part in parts {
        match part {
            Condition::Value(test) => tests.push(test),
            Condition::All(_) => {
                let (inner, more) = split(part)?;
                tags.extend(inner);
                tests.extend(more);
            }
            other => match value_within(&other) {
                Some(test) => {
                    let error = QueryError::new(test.comparison.place, "a condition on `value` can only be joined to others by `and`");
                    return Err(error.with_help("tags choose series, and `value` chooses points of these; ask twice with two `show`s"));
                }
                None => tags.push(other),
            },
        }
    }
    let tags = match tags.len() {
        0 => None,
        1 => tags.pop(),
        _ => Some(Condition::All(tags)),
    };
    Ok((tags, tests))
}

fn value_within(condition: &Condition) -> Option<&ValueTest> {
    match condition {
        Condition::Value(test) => Some(test),
        Condition::All(parts) | Condition::Any(parts) => parts.iter().find_map(value_within),
        Condition::Not(inner) => value_within(inner),
        _ => None,
    }
}

fn find_metric<'a>(
    selection: &Selection,
    lets: &[&str],
    catalogue: &'a Catalogue,
    home: &'a Dataset,
    notes: &mut Vec<String>,
) -> Result<(&'a Dataset, &'a Metric), QueryError> {
    let place = selection.metric.place;
    let wanted = &selection.metric.value;
    let dataset = match &wanted.dataset {
        None => home,
        Some(name) => {
            let found = catalogue.dataset_by_any_name(name).ok_or_else(|| {
                let known = listing(catalogue.datasets().map(|dataset| &*dataset.name), 10);
                QueryError::new(place, format!("there is no dataset `{name}`")).with_help(format!("there are {known}"))
            })?;
            note_rename("dataset", name, &found.name, notes);
            found
        }
    };
    let metric = dataset.metric_by_any_name(&wanted.metric).ok_or_else(|| {
        let names = || dataset.metrics().map(|metric| &*metric.name);
        let error = QueryError::new(place, format!("the dataset `{}` has no metric `{}`", dataset.name, wanted.metric));
        if wanted.dataset.is_none() && lets.contains(&wanted.metric.as_str()) {
            return error
                .with_help(format!("`{}` is what a `let` gave a name: it takes no `where` and no `earlier`; say these in the `let`", wanted.metric));
        }
        let elsewhere = catalogue.datasets().find(|other| wanted.dataset.is_none() && other.metric(&wanted.metric).is_some());
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

/// Whether tags are known, and patterns can be read.
fn check(condition: &Condition, dataset: &Dataset, metric: &Metric) -> Result<(), QueryError> {
    match condition {
        Condition::All(parts) | Condition::Any(parts) => parts.iter().try_for_each(|part| check(part, dataset, metric)),
        Condition::Not(inner) => check(inner, dataset, metric),
        Condition::Is(TagTest { tag, .. }) | Condition::Has(tag) | Condition::Lacks(tag) => check_tag(tag, dataset, metric),
        Condition::Value(_) => Ok(()),
        Condition::Matches(TagMatch { tag, pattern, .. }) => {
            check_tag(tag, dataset, metric)?;
            whole_pattern(&pattern.value).map(drop).map_err(|error| {
                let told = error.to_string();
                let reason = told.lines().last().unwrap_or_default().trim_start_matches("error: ");
                QueryError::new(pattern.place, format!("not a regular expression: {reason}"))
                    .with_help("it must match a whole value: \"a.*\" for all that begin with a")
            })
        }
    }
}

fn check_tag(tag: &Spanned<String>, dataset: &Dataset, metric: &Metric) -> Result<(), QueryError> {
    // The usual case is answered without counting anything.
    if dataset.has_tag(&tag.value, metric) {
        return Ok(());
    }
    let known = dataset.tags(Some(metric));
    let error = QueryError::new(tag.place, format!("no series of `{}` has a tag `{}`", metric.name, tag.value));
    let keys = || known.iter().map(|known| known.key);
    if tag.value == "value" {
        let help = match metric.definition.kind {
            Kind::State => "time in a state is `time_in(\"…\") of …`, and how often it changed `changes of …`",
            _ => "points are chosen by numbers: value > 3",
        };
        return Err(error.with_help(help));
    }
    Err(match closest(&tag.value, keys()) {
        Some(known) => error.with_help(format!("did you mean `{known}`?")),
        None if known.is_empty() => error.with_help("its series have no tags"),
        None => error.with_help(format!("its tags are {}", listing(keys(), 12))),
    })
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
                hints.push(format!("no value of {} matches \"{}\" as a whole, it has {}", tag.value, pattern.value, listing(values, 8)));
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
