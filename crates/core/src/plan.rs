//! A checked query: which series, which windows, within which bounds.
//!
//! The plan holds all that is needed to run, so that the catalogue is not locked while points are read.

use std::collections::BTreeMap;

use jiff::tz::TimeZone;

use crate::{
    catalogue::{Catalogue, Codes, Dataset, Metric, Series},
    model::{DatasetId, Kind, LineTags, SeriesId},
    query::{
        Comparison, Condition, Expr, Frame, FrameWidth, Grouping, InstantText, Place, Query, QueryError, Range, Reducer, Selection, Show, Spanned,
    },
    suggest::{closest, listing},
    time::{Nanos, TimeRange, Width, Windows, parse_instant, zone},
};

/// What one query may take.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Series that match.
    pub series: usize,
    /// Windows.
    pub windows: usize,
    /// Windows times lines, over all shows.
    pub cells: usize,
    /// Points that `points of` gives.
    pub points: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self { series: 10_000, windows: 100_000, cells: 2_000_000, points: 1_000_000 }
    }
}

/// Why a query cannot be planned. The place is in the query's own text, or in that of the frame from outside.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PlanError {
    /// A fault in the query's text.
    #[error("{0}")]
    Query(QueryError),
    /// A fault in the frame that came from outside the text.
    #[error("{0}")]
    Frame(QueryError),
    /// No frame, neither in the text nor outside.
    #[error("the query has no frame: say over which time, such as `over last 24h per 15m`")]
    NoFrame,
    /// There is no such dataset.
    #[error("there is no dataset `{name}`: there are {known}")]
    NoDataset {
        /// What was asked for.
        name: String,
        /// What there is.
        known: String,
    },
    /// More than allowed.
    #[error("{0}")]
    Bound(String),
}

/// What to run.
#[derive(Clone, Debug)]
pub struct Plan {
    /// When it was asked.
    pub now: Nanos,
    /// The zone of its calendar.
    pub zone: TimeZone,
    /// The windows of every show.
    pub windows: Windows,
    /// What to show.
    pub shows: Vec<ShowPlan>,
    /// What a reader must know.
    pub notes: Vec<String>,
    /// The most points that may be given.
    pub most_points: usize,
}

/// One `show`.
#[derive(Clone, Debug)]
pub struct ShowPlan {
    /// Its label, or its text.
    pub label: String,
    /// UCUM code of its unit.
    pub unit: Option<String>,
    /// Where its points are.
    pub dataset: DatasetId,
    /// The reducer; none for the points themselves.
    pub reducer: Option<Reducer>,
    /// Its lines, in order of their tags.
    pub lines: Vec<LinePlan>,
}

/// One line: series that are taken together.
#[derive(Clone, Debug)]
pub struct LinePlan {
    /// What tells it apart.
    pub tags: LineTags,
    /// Whose points it merges.
    pub series: Vec<PlannedSeries>,
}

/// A series to read.
#[derive(Clone, Debug)]
pub struct PlannedSeries {
    /// Which.
    pub id: SeriesId,
    /// What the stored numbers of a state or a histogram stand for.
    pub codes: Option<Codes>,
}

/// Checks a query against what there is. `outer` is the frame from outside the text, which the text's own frame overrides clause by
/// clause; `dataset` is the one that unqualified metrics are in.
///
/// # Errors
/// [`PlanError`], with the place and the closest known name.
pub fn plan(query: &Query, outer: &Frame, catalogue: &Catalogue, dataset: &str, now: Nanos, limits: &Limits) -> Result<Plan, PlanError> {
    let mut notes = Vec::new();
    let home = find_dataset(catalogue, dataset, &mut notes)?;
    let own = query.frame.clone().unwrap_or_default();
    let frame = FrameSource { own: &own, outer };
    frame.note_overrides(&mut notes);
    let tz = frame.zone(home)?;
    let windows = frame.windows(now, &tz, limits)?;
    let mut shows = Vec::with_capacity(query.shows.len());
    let (mut series, mut cells) = (0, 0);
    for show in &query.shows {
        let planned = plan_show(show, catalogue, home, &mut notes)?;
        series += planned.lines.iter().map(|line| line.series.len()).sum::<usize>();
        cells += planned.lines.len() * if planned.reducer.is_some() { windows.len() } else { 0 };
        shows.push(planned);
    }
    if series > limits.series {
        let text = format!("the query matches {series} series, the limit is {}: narrow it with `where`", limits.series);
        return Err(PlanError::Bound(text));
    }
    if cells > limits.cells {
        let text = format!(
            "the answer would have {cells} cells ({} windows for each line), the limit is {}: make the windows wider, or merge lines with `by` or `overall`",
            windows.len(),
            limits.cells
        );
        return Err(PlanError::Bound(text));
    }
    Ok(Plan { now, zone: tz, windows, shows, notes, most_points: limits.points })
}

fn find_dataset<'a>(catalogue: &'a Catalogue, name: &str, notes: &mut Vec<String>) -> Result<&'a Dataset, PlanError> {
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

/// The two places that a frame's clauses come from; the text wins.
struct FrameSource<'a> {
    own: &'a Frame,
    outer: &'a Frame,
}

type Fault = fn(QueryError) -> PlanError;

impl FrameSource<'_> {
    fn note_overrides(&self, notes: &mut Vec<String>) {
        let differs = |clause: Frame, other: Frame| {
            let (clause, other) = (clause.to_text(), other.to_text());
            (!clause.is_empty() && !other.is_empty() && clause != other)
                .then(|| format!("the query's own `{clause}` was used, not the frame's `{other}`"))
        };
        let range = |frame: &Frame| Frame { range: frame.range.clone(), ..Frame::default() };
        let width = |frame: &Frame| Frame { width: frame.width.clone(), ..Frame::default() };
        let zone = |frame: &Frame| Frame { zone: frame.zone.clone(), ..Frame::default() };
        notes.extend(differs(range(self.own), range(self.outer)));
        notes.extend(differs(width(self.own), width(self.outer)));
        notes.extend(differs(zone(self.own), zone(self.outer)));
    }

    /// A clause from the text, else from outside, with how a fault in it is told.
    fn clause<T>(&self, of: impl Fn(&Frame) -> Option<&Spanned<T>>) -> Option<(T, Place, Fault)>
    where
        T: Clone,
    {
        let own = of(self.own).map(|clause| (clause.value.clone(), clause.place, PlanError::Query as Fault));
        own.or_else(|| of(self.outer).map(|clause| (clause.value.clone(), clause.place, PlanError::Frame as Fault)))
    }

    fn zone(&self, home: &Dataset) -> Result<TimeZone, PlanError> {
        match self.clause(|frame| frame.zone.as_ref()) {
            Some((name, place, fault)) => zone(&name).map_err(|error| fault(QueryError::new(place, error.to_string()))),
            None => Ok(zone(&home.definition.zone).unwrap_or(TimeZone::UTC)),
        }
    }

    fn windows(&self, now: Nanos, tz: &TimeZone, limits: &Limits) -> Result<Windows, PlanError> {
        let (range, range_place, fault) = self.clause(|frame| frame.range.as_ref()).ok_or(PlanError::NoFrame)?;
        let at = |instant: &Spanned<InstantText>| resolve(instant, now, tz).map_err(fault);
        let range = match &range {
            Range::Last(span) => TimeRange { start: span.before(now, tz), end: now },
            Range::Since(from) => TimeRange { start: at(from)?, end: now },
            Range::Between(from, to) => TimeRange { start: at(from)?, end: at(to)? },
        };
        if range.is_empty() {
            let error = QueryError::new(range_place, "the range ends before it begins");
            return Err(fault(error.with_help("the end is not part of the range: it must lie after the start")));
        }
        let (width, place, fault) = match self.clause(|frame| frame.width.as_ref()) {
            Some((FrameWidth::Of(span), place, fault)) => (Width::Of(span), place, fault),
            Some((FrameWidth::Auto, place, fault)) => (Width::Auto, place, fault),
            None => (Width::Whole, range_place, fault),
        };
        Windows::cut(range, width, tz, limits.windows).map_err(|error| fault(QueryError::new(place, error.to_string())))
    }
}

fn resolve(instant: &Spanned<InstantText>, now: Nanos, tz: &TimeZone) -> Result<Nanos, QueryError> {
    let InstantText { base, minus } = &instant.value;
    let midnight = |days_ago: i64| {
        let day = crate::time::zoned(now, tz).date().saturating_sub(jiff::Span::new().days(days_ago));
        parse_instant(&day.to_string(), tz)
    };
    let at = match base.as_str() {
        "now" => Ok(now),
        "today" => midnight(0),
        "yesterday" => midnight(1),
        date => parse_instant(date, tz),
    };
    let at = at.map_err(|error| QueryError::new(instant.place, error.to_string()))?;
    Ok(minus.map_or(at, |span| span.before(at, tz)))
}

fn plan_show(show: &Show, catalogue: &Catalogue, home: &Dataset, notes: &mut Vec<String>) -> Result<ShowPlan, PlanError> {
    let selection = show.expr.selection();
    let (dataset, metric) = find_metric(selection, catalogue, home, notes).map_err(PlanError::Query)?;
    let condition = selection.condition.clone().map(|condition| with_keys_of_today(condition, dataset, metric, notes));
    if let Some(condition) = &condition {
        check_tags(condition, dataset, metric).map_err(PlanError::Query)?;
    }
    let series = dataset.matching(metric, condition.as_ref());
    if series.is_empty() {
        notes.push(nothing_matched(condition.as_ref(), dataset, metric));
    }
    let kind = metric.definition.kind;
    let (reducer, lines) = match &show.expr {
        Expr::Points(_) => (None, series.iter().map(|series| line(series.tags.to_line(), &[series], kind)).collect()),
        Expr::Reduction(reduction) => {
            check_reducer(reduction.reducer.value, reduction.reducer.place, metric).map_err(PlanError::Query)?;
            (
                Some(reduction.reducer.value),
                group(&series, &grouping_of_today(&reduction.grouping, dataset, metric, notes), dataset, metric).map_err(PlanError::Query)?,
            )
        }
    };
    let unit = if reducer == Some(Reducer::Count) { None } else { metric.definition.unit.clone() };
    let label = show.label.clone().unwrap_or_else(|| show.expr.to_text());
    Ok(ShowPlan { label, unit, dataset: dataset.id, reducer, lines })
}

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
    match condition {
        Condition::All(parts) => Condition::All(parts.into_iter().map(|part| with_keys_of_today(part, dataset, metric, notes)).collect()),
        Condition::Is(mut comparison) => {
            comparison.tag = key_of_today(comparison.tag, dataset, metric, notes);
            Condition::Is(comparison)
        }
    }
}

fn grouping_of_today(grouping: &Grouping, dataset: &Dataset, metric: &Metric, notes: &mut Vec<String>) -> Grouping {
    match grouping {
        Grouping::By(tags) if dataset.has_renamed_tags() => {
            Grouping::By(tags.iter().map(|tag| key_of_today(tag.clone(), dataset, metric, notes)).collect())
        }
        other => other.clone(),
    }
}

fn find_metric<'a>(
    selection: &Selection,
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
        let elsewhere = catalogue.datasets().find(|other| wanted.dataset.is_none() && other.metric(&wanted.metric).is_some());
        match closest(&wanted.metric, names()) {
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

fn check_tags(condition: &Condition, dataset: &Dataset, metric: &Metric) -> Result<(), QueryError> {
    match condition {
        Condition::All(parts) => parts.iter().try_for_each(|part| check_tags(part, dataset, metric)),
        Condition::Is(Comparison { tag, .. }) => check_tag(tag, dataset, metric),
    }
}

fn check_tag(tag: &Spanned<String>, dataset: &Dataset, metric: &Metric) -> Result<(), QueryError> {
    let known = dataset.tags(Some(metric));
    if known.iter().any(|known| known.key == tag.value) {
        return Ok(());
    }
    let error = QueryError::new(tag.place, format!("no series of `{}` has a tag `{}`", metric.name, tag.value));
    let keys = || known.iter().map(|known| known.key);
    Err(match closest(&tag.value, keys()) {
        Some(known) => error.with_help(format!("did you mean `{known}`?")),
        None if known.is_empty() => error.with_help("its series have no tags"),
        None => error.with_help(format!("its tags are {}", listing(keys(), 12))),
    })
}

fn check_reducer(reducer: Reducer, place: Place, metric: &Metric) -> Result<(), QueryError> {
    match metric.definition.kind {
        Kind::Gauge | Kind::Counter => return Ok(()),
        Kind::Histogram if reducer == Reducer::Count => return Ok(()),
        Kind::Histogram => {
            let error = QueryError::new(place, format!("`{}` is a histogram: this version does not take the {reducer} of one", metric.name));
            return Err(error.with_help("ask for its `count`, or for `points`"));
        }
        Kind::State if reducer.takes_words() => return Ok(()),
        Kind::State => {}
    }
    let error = QueryError::new(place, format!("`{}` is a state, whose values are words: they have no {reducer}", metric.name));
    Err(error.with_help("ask for its `last`, `first` or `count`, or for `points`"))
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
    match condition {
        Condition::All(parts) => parts.iter().for_each(|part| collect_hints(part, dataset, metric, hints)),
        Condition::Is(Comparison { tag, texts, negated: false, .. }) => {
            let tags = dataset.tags(Some(metric));
            let Some(known) = tags.iter().find(|known| known.key == tag.value) else { return };
            let values = || known.values.iter().map(|(value, _)| *value);
            for text in texts.iter().filter(|text| !values().any(|value| value == text.value)) {
                let nearest = match closest(&text.value, values()) {
                    Some(value) => format!("did you mean \"{value}\"?"),
                    None => format!("it has {}", listing(values(), 8)),
                };
                hints.push(format!("none has {} = \"{}\", {nearest}", tag.value, text.value));
            }
        }
        Condition::Is(_) => {}
    }
}

fn group(series: &[&Series], grouping: &Grouping, dataset: &Dataset, metric: &Metric) -> Result<Vec<LinePlan>, QueryError> {
    let kind = metric.definition.kind;
    Ok(match grouping {
        Grouping::Apart => series.iter().map(|one| line(one.tags.to_line(), &[one], kind)).collect(),
        Grouping::Overall if series.is_empty() => Vec::new(),
        Grouping::Overall => vec![line(LineTags::new(), series, kind)],
        Grouping::By(tags) => {
            for tag in tags {
                check_tag(tag, dataset, metric)?;
            }
            let mut groups: BTreeMap<LineTags, Vec<&Series>> = BTreeMap::new();
            for one in series {
                let shared = tags.iter().filter_map(|tag| one.tags.get(tag.value.as_str()).cloned()).collect();
                groups.entry(shared).or_default().push(one);
            }
            groups.into_iter().map(|(tags, series)| line(tags, &series, kind)).collect()
        }
    })
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
