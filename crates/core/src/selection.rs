//! Conditions on tags, looked up in the catalogue: which series of a metric they leave.

use crate::{
    catalogue::{Dataset, Metric, whole_pattern},
    model::{Kind, SeriesId},
    query::{Condition, QueryError, Spanned, TagMatch, TagTest, ValueTest},
    suggest::{closest, listing},
};

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
        return Err(QueryError::new(test.comparison.place, "only tags can be used here, not `value`"));
    }
    Ok(dataset.matching_by_id(metric, tags.as_ref()).iter().map(|series| series.id).collect())
}

/// A note where an old name answered.
pub fn note_rename(noun: &str, asked: &str, name: &str, notes: &mut Vec<String>) {
    if asked != name {
        let note = format!("the {noun} `{asked}` is called `{name}` now");
        if !notes.contains(&note) {
            notes.push(note);
        }
    }
}

/// A tag that has another key now than the one that the query names.
pub fn key_of_today(mut tag: Spanned<String>, dataset: &Dataset, metric: &Metric, notes: &mut Vec<String>) -> Spanned<String> {
    if let Some(key) = dataset.renamed_tag(&tag.value)
        && !dataset.tags(Some(metric)).iter().any(|known| known.key == tag.value)
    {
        note_rename("tag", &tag.value, key, notes);
        tag.value = key.to_owned();
    }
    tag
}

/// A condition with the keys that tags have now.
pub fn with_keys_of_today(condition: Condition, dataset: &Dataset, metric: &Metric, notes: &mut Vec<String>) -> Condition {
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
pub fn split(condition: Condition) -> Result<(Option<Condition>, Vec<ValueTest>), QueryError> {
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

/// Whether tags are known, and patterns can be read.
pub fn check(condition: &Condition, dataset: &Dataset, metric: &Metric) -> Result<(), QueryError> {
    match condition {
        Condition::All(parts) | Condition::Any(parts) => parts.iter().try_for_each(|part| check(part, dataset, metric)),
        Condition::Not(inner) => check(inner, dataset, metric),
        Condition::Is(TagTest { tag, .. }) | Condition::Has(tag) | Condition::Lacks(tag) => check_tag(tag, dataset, metric),
        Condition::Value(_) => Ok(()),
        Condition::Matches(TagMatch { tag, pattern, .. }) => {
            check_tag(tag, dataset, metric)?;
            whole_pattern(&pattern.value).map(drop).map_err(|error| {
                let message = error.to_string();
                let reason = message.lines().last().unwrap_or_default().trim_start_matches("error: ");
                QueryError::new(pattern.place, format!("not a regular expression: {reason}"))
                    .with_help("it must match a whole value: \"a.*\" for all that begin with a")
            })
        }
    }
}

/// Whether a metric has a tag.
pub fn check_tag(tag: &Spanned<String>, dataset: &Dataset, metric: &Metric) -> Result<(), QueryError> {
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
