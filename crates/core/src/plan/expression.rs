//! Trees to nodes: names resolved, reducers held against kinds, units followed, lines joined, bounds kept.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    sync::Arc,
};

use jiff::tz::TimeZone;

use super::{
    Leaf, Limits, Node, PlanError, PlannedTime, ShowPlan, Take, joining,
    levels::{Asked, Clause},
    selection,
};
use crate::{
    catalogue::Dataset,
    model::{Kind, LineTags, MetricTraits},
    query::{
        Binary, Call, Expr, Function, Grouping, Of, Operator, PointsOf, Query, QueryError, Reducer, Reduction, Selection, Show, Spanned, TextSpan,
        UnitClause,
    },
    suggest::{closest, listing},
    units,
    visibility::VisibleCatalogue,
};

/// The most steps of a computation, with what `let` names stand for counted each time.
const MAX_STEPS: usize = 10_000;

/// Plans the shows of one query.
pub struct Planner<'a> {
    query: &'a Query,
    catalogue: VisibleCatalogue<'a>,
    home: &'a Dataset,
    time: &'a PlannedTime,
    zone: &'a TimeZone,
    /// From what the query says that points are read.
    from: Option<&'a Clause>,
    limits: &'a Limits,
    notes: Vec<String>,
    leaves: Vec<Leaf>,
    named: HashMap<usize, Planned>,
    series: usize,
    cells: usize,
}

/// An expression that was planned.
#[derive(Clone)]
struct Planned {
    node: Node,
    lines: Lines,
    unit: Option<String>,
    /// Whether its values are words, and of what.
    words: Option<String>,
    /// What its values are on a scale with a zero of its own, such as that of degrees.
    stands_for: StandsFor,
    steps: usize,
}

/// What a value is on a scale with a zero of its own: 14 degrees are 287 kelvins as a reading, and 14 as a difference.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum StandsFor {
    /// A point of the scale.
    Reading,
    /// How far two points lie apart.
    Difference,
    /// Neither: a sum or a product of readings.
    Amount,
}

impl StandsFor {
    /// Of a reducer of these.
    fn reduced(self, reducer: &Reducer) -> Self {
        use Reducer::*;
        match reducer {
            Mean | Min | Max | First | Last | Quantile(_) | TimeMean(_) => self,
            Spread | Stddev | Delta | Growth => Self::Difference,
            Sum if self == Self::Difference => Self::Difference,
            _ => Self::Amount,
        }
    }

    /// Of a sum or a difference with another.
    fn joined(self, operator: Operator, other: Self) -> Self {
        use StandsFor::*;
        match (operator, self, other) {
            (_, Difference, Difference) | (Operator::Subtract, Reading, Reading) => Difference,
            (Operator::Add, Difference, Reading) | (Operator::Add | Operator::Subtract, Reading, Difference) => Reading,
            _ => Amount,
        }
    }
}

#[derive(Clone)]
enum Lines {
    /// The same number everywhere.
    Number,
    Of(Vec<LineTags>),
}

type Fault<T> = Result<T, PlanError>;

/// The tag that separates the lines of several states.
const STATE_TAG: &str = "state";
/// Maximum number of states with a line of their own.
const MAX_STATES: usize = 100;

impl<'a> Planner<'a> {
    pub fn new(
        query: &'a Query,
        catalogue: VisibleCatalogue<'a>,
        home: &'a Dataset,
        (time, zone, from): (&'a PlannedTime, &'a TimeZone, Option<&'a Clause>),
        limits: &'a Limits,
        notes: Vec<String>,
    ) -> Self {
        Self { query, catalogue, home, time, zone, from, limits, notes, leaves: Vec::new(), named: HashMap::new(), series: 0, cells: 0 }
    }

    /// What is read, what a reader must know, and how many cells are computed.
    pub fn done(mut self) -> (Vec<Leaf>, Vec<String>, usize) {
        let unused = self.query.lets.iter().enumerate().filter(|(at, _)| !self.named.contains_key(at));
        self.notes.extend(unused.map(|(_, given)| format!("`{}` is given a name and not used", given.name.value)));
        (self.leaves, self.notes, self.cells)
    }

    pub fn show(&mut self, show: &Show) -> Fault<ShowPlan> {
        let visible = self.query.lets.len();
        let mut planned = match &show.expr {
            Expr::Points(of) => self.points(of, show)?,
            expr => self.expr(expr, visible)?,
        };
        if let (Some(keeping), Some(what)) = (&show.keeping, &planned.words) {
            let place = show_place(&show.expr);
            let error = QueryError::new(place, format!("{what} are words, and `keeping {}` compares numbers", keeping.comparison.as_str()));
            return Err(error.into());
        }
        if let Some(rank) = &show.rank {
            let by = rank.by.as_ref();
            let place = by.map_or_else(|| show_place(&show.expr), |by| by.place);
            if let Some(what) = &planned.words {
                return Err(QueryError::new(place, format!("{what} are words, which have no order to rank by")).into());
            }
            if let Some(by) = by.filter(|by| !reduces_lines(&by.value) && !matches!(by.value, Reducer::First | Reducer::Last)) {
                let error = QueryError::new(place, format!("lines are not ranked by their {}", by.value));
                return Err(error
                    .with_help("rank them by count, sum, mean, min, max, spread, first, last, stddev or a quantile of their windows")
                    .into());
            }
        }
        match &show.unit {
            None => {}
            Some(UnitClause::Unit(unit)) => planned.unit = Some(unit.value.clone()),
            Some(UnitClause::In(unit)) => planned = self.converted(planned, unit)?,
        }
        let lines = match planned.lines {
            Lines::Number => vec![LineTags::new()],
            Lines::Of(lines) => lines,
        };
        if lines.len() > self.limits.lines {
            let text = format!(
                "the answer would have {} lines, the limit is {}: narrow it with `where`, or merge series with `by` or `overall`",
                lines.len(),
                self.limits.lines
            );
            return Err(PlanError::Bound(text));
        }
        let label = show.label.clone().unwrap_or_else(|| show.expr.to_text());
        Ok(ShowPlan { label, unit: planned.unit, node: planned.node, lines, keeping: show.keeping.clone(), rank: show.rank.clone() })
    }

    fn points(&mut self, of: &PointsOf, show: &Show) -> Fault<Planned> {
        let place = of.metric.place;
        let fault = |message: &str, help: &str| Err(QueryError::new(place, message).with_help(help).into());
        if matches!(self.time, PlannedTime::Moments(_)) {
            return fault(
                "points need a range (`over`), and the query has an instant (`at`)",
                "use `over` with a range, or ask for the metric alone",
            );
        }
        if show.keeping.is_some() {
            return fault("`keeping` selects windows, and `points` has none", "choose points by their value: where value > 3");
        }
        if show.rank.is_some() {
            return fault("`top` and `bottom` rank lines of windows, and points have none", "rank a reducer of them, such as their `max`");
        }
        if matches!(show.unit, Some(UnitClause::In(_))) {
            return fault("points are shown as they came", "convert a reducer of them, such as their `mean`");
        }
        if of.earlier.is_some() {
            return fault("points are shown at their own times", "ask over the earlier range instead");
        }
        for (before, metric) in of.also.iter().enumerate() {
            let name = &metric.value.metric;
            if of.selections().take(before + 1).any(|of| of.metric.value.metric == *name) {
                let error = QueryError::new(metric.place, format!("`{name}` is named twice in `points of`"));
                return Err(error.with_help("each metric becomes a column: name it once, or add another `show`").into());
            }
        }
        let planned: Vec<Planned> = of
            .selections()
            .map(|of| {
                let text = of.to_text();
                self.leaf(&of, &Grouping::Apart, Take::Points, TextSpan::default(), text)
            })
            .collect::<Result<_, _>>()?;
        let mut nodes = Vec::with_capacity(planned.len());
        let (mut lines, mut places, mut units) = (Vec::new(), Vec::new(), BTreeSet::new());
        for (at, planned) in planned.into_iter().enumerate() {
            if let Lines::Of(tags) = planned.lines {
                places.extend((0..tags.len()).map(|row| (at, row)));
                lines.extend(tags);
            }
            nodes.push(planned.node);
            units.insert(planned.unit);
        }
        // Units that the metrics do not share are given per line.
        let unit = if units.len() == 1 { units.pop_first().flatten() } else { None };
        let node = match nodes.pop() {
            Some(alone) if nodes.is_empty() => alone,
            last => {
                nodes.extend(last);
                Node::Stacked { of: nodes, lines: places }
            }
        };
        Ok(Planned { node, lines: Lines::Of(lines), unit, words: None, stands_for: StandsFor::Reading, steps: 1 })
    }

    fn expr(&mut self, expr: &Expr, visible: usize) -> Fault<Planned> {
        Ok(match expr {
            Expr::Number(number) => {
                Planned { node: Node::Number(*number), lines: Lines::Number, unit: None, words: None, stands_for: StandsFor::Difference, steps: 1 }
            }
            Expr::Negate(inner) => {
                let of = self.numbers(inner, visible)?;
                // The same as times -1, which keeps the unit.
                let stands_for = if of.stands_for == StandsFor::Difference { of.stands_for } else { StandsFor::Amount };
                Planned { node: Node::Scaled { of: Box::new(of.node), factor: -1.0, offset: 0.0 }, stands_for, steps: of.steps + 1, ..of }
            }
            Expr::Binary(binary) => self.binary(binary, visible)?,
            Expr::Call(call) => self.call(call, visible)?,
            Expr::Reduction(reduction) => self.reduction(reduction, visible)?,
            Expr::Points(of) => {
                let error = QueryError::new(of.metric.place, "points can be shown, but not used in calculations");
                return Err(error.with_help(format!("write what to compute from them, such as `mean of {}`", of.to_text())).into());
            }
            Expr::Selection(of) => match self.named(of, visible)? {
                Some(planned) => planned,
                None if matches!(self.time, PlannedTime::Moments(_)) => {
                    self.leaf(of, &Grouping::Apart, Take::Moment, of.metric.place, of.to_text())?
                }
                None => {
                    let error = QueryError::new(of.metric.place, format!("found `{}`, expected a reducer", of.metric.value.metric));
                    // A wrong name is reported first: it may have been meant for something else.
                    let _ = selection::find(of, &self.lets(visible), self.catalogue, self.home, &mut Vec::new())?;
                    let text = of.to_text();
                    return Err(error
                        .with_help(format!("write what to compute from its points, such as `mean of {text}` or `points of {text}`"))
                        .into());
                }
            },
        })
    }

    /// An expression whose values are numbers.
    fn numbers(&mut self, expr: &Expr, visible: usize) -> Fault<Planned> {
        let planned = self.expr(expr, visible)?;
        match &planned.words {
            None => Ok(planned),
            Some(what) => {
                let error = QueryError::new(show_place(expr), format!("{what} are words, which cannot be used in calculations"));
                Err(error.with_help("for a state, numbers come from `time_in(\"…\")`, `share_in(\"…\")`, `changes`, `distinct` and `count`").into())
            }
        }
    }

    fn lets(&self, visible: usize) -> Vec<&'a str> {
        self.query.lets[..visible].iter().map(|given| given.name.value.as_str()).collect()
    }

    /// What `let` gave a name, if it is one.
    fn named(&mut self, of: &Selection, visible: usize) -> Fault<Option<Planned>> {
        let Some(name) = of.as_name() else { return Ok(None) };
        let Some(at) = self.query.lets[..visible].iter().rposition(|given| given.name.value == name) else { return Ok(None) };
        if let Some(known) = self.named.get(&at) {
            return Ok(Some(known.clone()));
        }
        let planned = self.expr(&self.query.lets[at].expr, at)?;
        self.named.insert(at, planned.clone());
        Ok(Some(planned))
    }

    fn converted(&self, planned: Planned, unit: &Spanned<String>) -> Fault<Planned> {
        let fault = |message: String, help: String| Err(QueryError::new(unit.place, message).with_help(help).into());
        let Some(from) = planned.unit.as_deref().or(matches!(planned.lines, Lines::Number).then_some("1")) else {
            return fault(
                format!("this has no unit to convert to \"{}\" from", unit.value),
                format!("say what it is with `unit \"{}\"`, or define the metric's unit", unit.value),
            );
        };
        match units::conversion(from, &unit.value) {
            Some(conversion) => match on_scale(conversion, planned.stands_for) {
                Some(conversion) => Ok(scaled(planned, conversion, Some(unit.value.clone()))),
                None => fault(
                    format!(
                        "\"{from}\" has an offset zero, like degrees Celsius: sums and products of such values cannot be converted to \"{}\"",
                        unit.value
                    ),
                    "convert their mean, least or greatest instead".to_owned(),
                ),
            },
            None if units::is_known(&unit.value) => fault(
                format!("\"{from}\" cannot be converted to \"{}\"", unit.value),
                "they measure different things, or one of them has an offset zero and is part of a product".to_owned(),
            ),
            None => fault(
                format!("\"{}\" is not a unit of UCUM", unit.value),
                "units are written as in \"m3/h\", \"kW.h\", \"Cel\" or \"{boat}\"; `unit` takes any text".to_owned(),
            ),
        }
    }

    fn binary(&mut self, binary: &Binary, visible: usize) -> Fault<Planned> {
        let Binary { operator, left, right } = binary;
        let (left, mut right) = (self.numbers(left, visible)?, self.numbers(right, visible)?);
        let steps = left.steps + right.steps + 1;
        if steps > MAX_STEPS {
            return Err(QueryError::new(operator.place, format!("the query has more than {MAX_STEPS} steps once its `let`s are inserted")).into());
        }
        let mut after = units::Conversion::NONE;
        let unit = match operator.value {
            Operator::Add | Operator::Subtract => match (&left.unit, &right.unit) {
                (Some(ours), Some(theirs)) => {
                    let Some(conversion) = units::conversion(theirs, ours) else {
                        let error = QueryError::new(operator.place, format!("\"{ours}\" {} \"{theirs}\" has no meaning", operator.value.as_str()));
                        return Err(error.with_help("both sides of a sum must measure the same; a metric's unit is set in its definition").into());
                    };
                    let Some(conversion) = on_scale(conversion, right.stands_for) else {
                        let error = QueryError::new(
                            operator.place,
                            format!(
                                "\"{theirs}\" has an offset zero, like degrees Celsius: sums and products of such values cannot be converted to \"{ours}\""
                            ),
                        );
                        return Err(error.with_help("join their mean, least or greatest instead").into());
                    };
                    right = scaled(right, conversion, Some(ours.clone()));
                    Some(ours.clone())
                }
                (ours, theirs) => ours.clone().or_else(|| theirs.clone()),
            },
            Operator::Multiply => units::product(left.unit.as_deref(), right.unit.as_deref()),
            Operator::Divide => {
                let (unit, factor) = units::quotient(left.unit.as_deref(), right.unit.as_deref());
                after.factor = factor;
                unit
            }
        };
        let (pairs, lines) = match (left.lines, right.lines) {
            (Lines::Number, Lines::Number) => (None, Lines::Number),
            (Lines::Of(lines), Lines::Number) | (Lines::Number, Lines::Of(lines)) => (None, Lines::Of(lines)),
            (Lines::Of(ours), Lines::Of(theirs)) => {
                let joined = joining::join(&ours, &theirs).map_err(|error| {
                    let message = format!("the sides of `{}` cannot be joined: {}", operator.value.as_str(), error.message);
                    QueryError::new(operator.place, message).with_help(error.help)
                })?;
                let mut alone = |count: usize, side: &str| {
                    if count > 0 {
                        let (lines, have) = if count == 1 { ("line", "has") } else { ("lines", "have") };
                        self.notes
                            .push(format!("{count} {lines} on the {side} of `{}` {have} no partner, and are left out", operator.value.as_str()));
                    }
                };
                alone(joined.alone.0, "left");
                alone(joined.alone.1, "right");
                let pairs = joined.lines.iter().map(|(_, one, other)| (*one, *other)).collect();
                (Some(pairs), Lines::Of(joined.lines.into_iter().map(|(tags, ..)| tags).collect()))
            }
        };
        self.count_cells(&lines)?;
        let stands_for = match operator.value {
            Operator::Add | Operator::Subtract => left.stands_for.joined(operator.value, right.stands_for),
            _ if left.stands_for == StandsFor::Difference && right.stands_for == StandsFor::Difference => StandsFor::Difference,
            _ => StandsFor::Amount,
        };
        let node = Node::Binary { operator: operator.value, left: Box::new(left.node), right: Box::new(right.node), pairs };
        Ok(scaled(Planned { node, lines, unit: unit.clone(), words: None, stands_for, steps }, after, unit))
    }

    fn call(&mut self, call: &Call, visible: usize) -> Fault<Planned> {
        let of = self.numbers(&call.of, visible)?;
        let function = call.function.value;
        if matches!(self.time, PlannedTime::Moments(_)) && matches!(function, Function::Smooth | Function::Running | Function::Change) {
            let error = QueryError::new(call.function.place, format!("`{}` works across windows, and an instant has none", function.as_str()));
            return Err(error.with_help("ask `over` a range of time").into());
        }
        let unit = match function {
            Function::Sqrt | Function::Ln | Function::Log10 | Function::Exp | Function::Share => None,
            _ => of.unit,
        };
        let node = Node::Call { function, of: Box::new(of.node), arguments: call.arguments.clone() };
        let stands_for = match function {
            Function::Change => StandsFor::Difference,
            Function::Running if of.stands_for != StandsFor::Difference => StandsFor::Amount,
            _ => of.stands_for,
        };
        Ok(Planned { node, lines: of.lines, unit, words: None, stands_for, steps: of.steps + 1 })
    }

    fn reduction(&mut self, reduction: &Reduction, visible: usize) -> Fault<Planned> {
        let reducer = &reduction.reducer;
        match &reduction.of {
            Of::Lines(inner) => {
                let of = self.numbers(inner, visible)?;
                self.merged(reduction, of)
            }
            Of::Selection(of) => match self.named(of, visible)? {
                Some(planned) if planned.words.is_none() => self.merged(reduction, planned),
                Some(planned) => {
                    let what = planned.words.unwrap_or_default();
                    Err(QueryError::new(of.metric.place, format!("{what} are words, which cannot be reduced")).into())
                }
                None if matches!(self.time, PlannedTime::Moments(_)) => {
                    let error = QueryError::new(reducer.place, "at an instant each series has one value, so there is nothing to reduce");
                    Err(error
                        .with_help(format!("put the metric in parentheses to reduce these: {} of ({}) overall", reducer.value, of.to_text()))
                        .into())
                }
                None => {
                    let text = Expr::Reduction(Box::new(reduction.clone())).to_text();
                    if matches!(reducer.value, Reducer::TimeIn(None) | Reducer::ShareIn(None)) {
                        return self.each_state(of, reduction, &text);
                    }
                    self.leaf(of, &reduction.grouping, Take::Reduced(reducer.value.clone()), reducer.place, text)
                }
            },
        }
    }

    /// A line for each word that a state ever was.
    fn each_state(&mut self, of: &Selection, reduction: &Reduction, text: &str) -> Fault<Planned> {
        let Spanned { value: reducer, place } = &reduction.reducer;
        let lets = self.lets(self.query.lets.len());
        let found = selection::find(of, &lets, self.catalogue, self.home, &mut Vec::new())?;
        check_reducer(reducer, *place, &found.facts())?;
        let words: BTreeSet<Arc<str>> = found.series.iter().flat_map(|series| series.words()).cloned().collect();
        if words.len() > MAX_STATES {
            let error = QueryError::new(*place, format!("`{}` has {} states, more than {MAX_STATES} lines", of.to_text(), words.len()));
            return Err(error.with_help(format!("ask for certain ones: {}(\"…\") of …", reducer.word())).into());
        }
        let mut stacked = Vec::with_capacity(words.len());
        let mut lines: Vec<(LineTags, (usize, usize))> = Vec::new();
        let mut unit = None;
        for (at, word) in words.iter().enumerate() {
            let take = Take::Reduced(reducer.of_state(word).unwrap_or_else(|| reducer.clone()));
            let planned = self.leaf(of, &reduction.grouping, take, *place, text.to_owned())?;
            let Lines::Of(tags) = planned.lines else { continue };
            if tags.iter().any(|tags| tags.contains_key(STATE_TAG)) {
                let error = QueryError::new(
                    *place,
                    format!("the lines of states would be separated by the tag `{STATE_TAG}`, which these lines already have"),
                );
                return Err(error.with_help(format!("merge them with `by` or `overall`, or ask for one state: {}(\"…\")", reducer.word())).into());
            }
            lines.extend(tags.into_iter().enumerate().map(|(row, mut tags)| {
                tags.insert(STATE_TAG.into(), Arc::clone(word));
                (tags, (at, row))
            }));
            stacked.push(planned.node);
            unit = planned.unit;
        }
        lines.sort();
        let (tags, places): (Vec<_>, Vec<_>) = lines.into_iter().unzip();
        let node = Node::Stacked { of: stacked, lines: places };
        let stands_for = StandsFor::Reading.reduced(reducer);
        Ok(Planned { node, lines: Lines::Of(tags), unit, words: None, stands_for, steps: 2 })
    }

    /// Lines reduced to fewer, window by window.
    fn merged(&mut self, reduction: &Reduction, of: Planned) -> Fault<Planned> {
        let Spanned { value: reducer, place } = &reduction.reducer;
        if !reduces_lines(reducer) {
            let error = QueryError::new(*place, format!("`{reducer}` reduces points over time; what is in parentheses has one value per window"));
            return Err(error.with_help("lines are reduced by count, sum, mean, min, max, spread, stddev, variance, distinct or a quantile").into());
        }
        let Lines::Of(lines) = &of.lines else { return Err(QueryError::new(*place, "there are no lines to reduce: this is a number").into()) };
        let wanted: Option<Vec<&str>> = match &reduction.grouping {
            Grouping::Apart => {
                let error = QueryError::new(*place, format!("`{reducer} of (…)` needs `by` or `overall`: which lines are combined?"));
                return Err(error.with_help(format!("add `overall` for all of them, or `by` one of {}", tags_of(lines))).into());
            }
            Grouping::Overall => None,
            Grouping::By(tags) => {
                let known: BTreeSet<&str> = lines.iter().flat_map(|tags| tags.keys().map(|key| &**key)).collect();
                if let Some(tag) = tags.iter().find(|tag| !lines.is_empty() && !known.contains(tag.value.as_str())) {
                    let error = QueryError::new(tag.place, format!("what is in parentheses has no tag `{}`", tag.value));
                    let help = match closest(&tag.value, known.iter().copied()) {
                        Some(known) => format!("did you mean `{known}`?"),
                        None if known.is_empty() => "its lines have no tags: they were merged before".to_owned(),
                        None => format!("its lines differ by {}", listing(known.iter().copied(), 12)),
                    };
                    return Err(error.with_help(help).into());
                }
                Some(tags.iter().map(|tag| tag.value.as_str()).collect())
            }
        };
        let mut groups: BTreeMap<LineTags, Vec<usize>> = BTreeMap::new();
        for (at, tags) in lines.iter().enumerate() {
            let shared = wanted.iter().flatten().filter_map(|key| tags.get_key_value(*key)).map(|(key, value)| (key.clone(), value.clone()));
            groups.entry(shared.collect()).or_default().push(at);
        }
        let (lines, groups): (Vec<_>, Vec<_>) = groups.into_iter().unzip();
        let lines = Lines::Of(lines);
        self.count_cells(&lines)?;
        let unit = match reducer {
            Reducer::Count | Reducer::Distinct => None,
            Reducer::Variance => of.unit.as_deref().map(units::squared),
            _ => of.unit,
        };
        let node = Node::Reduced { reducer: reducer.clone(), of: Box::new(of.node), groups };
        Ok(Planned { node, lines, unit, words: None, stands_for: of.stands_for.reduced(reducer), steps: of.steps + 1 })
    }

    /// What is read; the same thing twice is read once.
    fn leaf(&mut self, of: &Selection, grouping: &Grouping, take: Take, place: TextSpan, text: String) -> Fault<Planned> {
        let lets = self.lets(self.query.lets.len());
        let found = selection::find(of, &lets, self.catalogue, self.home, &mut self.notes)?;
        let facts = found.facts();
        if let Take::Reduced(reducer) = &take {
            check_reducer(reducer, place, &facts)?;
            if let (Reducer::SpotRate, PlannedTime::Windows(windows, _)) = (reducer, self.time)
                && windows.cells_each() > 1
            {
                return Err(QueryError::new(place, "`spot_rate` uses the last two points of a window and cannot be combined with `stepping`").into());
            }
            if let Reducer::TimeIn(Some(state)) | Reducer::ShareIn(Some(state)) = reducer {
                let words: BTreeSet<&str> = found.series.iter().flat_map(|series| series.words()).map(|word| &**word).collect();
                if !words.contains(&**state) && !words.is_empty() {
                    let near = closest(state, words.iter().copied()).map_or_else(|| listing(words.iter().copied(), 8), |word| format!("\"{word}\"?"));
                    self.notes.push(format!("`{}` was never \"{state}\": did you mean {near}", facts.metric));
                }
            }
        }
        if let Some(test) = found.tests.first()
            && !takes_tests(&take)
        {
            let error = QueryError::new(test.comparison.place, "a condition on `value` cannot be used here, since neighbouring points matter");
            return Err(error
                .with_help(
                    "`value` can be used with count, sum, mean, min, max, spread, first, last, stddev, variance, quantiles, distinct and points",
                )
                .into());
        }
        let lines = found.lines(grouping, &mut self.notes)?;
        let tags: Vec<LineTags> = lines.iter().map(|line| line.tags.clone()).collect();
        let unit = match &take {
            Take::Reduced(reducer) => unit_of(reducer, &facts, found.metric.definition.unit.as_deref()),
            Take::Moment | Take::Points => found.metric.definition.unit.clone(),
        };
        let words = matches!(
            (&take, facts.kind),
            (Take::Moment | Take::Reduced(Reducer::First | Reducer::Last), Kind::State) | (Take::Moment, Kind::Histogram)
        );
        let words = words.then(|| format!("values of `{}`", facts.metric));
        let stands_for = take.reducer().map_or(StandsFor::Reading, |reducer| StandsFor::Reading.reduced(reducer));
        let asked = Asked {
            dataset: found.dataset,
            metric: found.metric,
            series: &found.series,
            facts: &facts,
            take: &take,
            tests: &found.tests,
            time: self.time,
            earlier: of.earlier.as_ref().map(|span| (span.value, self.zone)),
        };
        let from = asked.from(self.from)?;
        let (dataset, metric, earlier) = (found.dataset.id, found.metric.id, of.earlier.as_ref().map(|span| span.value));
        let leaf = Leaf { text, dataset, metric, unit: found.metric.definition.unit.clone(), facts, take, from, earlier, tests: found.tests, lines };
        let known = self.leaves.iter().position(|known| {
            (known.dataset, &known.facts, &known.take, known.earlier, &known.tests)
                == (leaf.dataset, &leaf.facts, &leaf.take, leaf.earlier, &leaf.tests)
                && known.lines == leaf.lines
        });
        let at = match known {
            Some(at) => at,
            None => {
                self.series += leaf.lines.iter().map(|line| line.series.len()).sum::<usize>();
                if self.series > self.limits.series {
                    let text = format!("the query matches {} series, the limit is {}: narrow it with `where`", self.series, self.limits.series);
                    return Err(PlanError::Bound(text));
                }
                if leaf.take != Take::Points {
                    self.count_cells(&Lines::Of(tags.clone()))?;
                }
                self.leaves.push(leaf);
                self.leaves.len() - 1
            }
        };
        Ok(Planned { node: Node::Leaf(at), lines: Lines::Of(tags), unit, words, stands_for, steps: 1 })
    }

    fn count_cells(&mut self, lines: &Lines) -> Fault<()> {
        let Lines::Of(lines) = lines else { return Ok(()) };
        self.cells += lines.len() * self.time.columns();
        if self.cells <= self.limits.cells {
            return Ok(());
        }
        Err(PlanError::Bound(format!(
            "the answer would have {} cells ({} windows per line), the limit is {}: use wider windows, or merge lines with `by` or `overall`",
            self.cells,
            self.time.columns(),
            self.limits.cells
        )))
    }
}

/// A conversion as it holds for values of that sort; none where it holds for none.
fn on_scale(conversion: units::Conversion, stands_for: StandsFor) -> Option<units::Conversion> {
    match stands_for {
        _ if conversion.offset == 0.0 => Some(conversion),
        StandsFor::Reading => Some(conversion),
        StandsFor::Difference => Some(units::Conversion { offset: 0.0, ..conversion }),
        StandsFor::Amount => None,
    }
}

fn scaled(planned: Planned, conversion: units::Conversion, unit: Option<String>) -> Planned {
    if conversion == units::Conversion::NONE {
        return Planned { unit, ..planned };
    }
    let node = Node::Scaled { of: Box::new(planned.node), factor: conversion.factor, offset: conversion.offset };
    Planned { node, unit, steps: planned.steps + 1, ..planned }
}

fn tags_of(lines: &[LineTags]) -> String {
    let keys: BTreeSet<&str> = lines.iter().flat_map(|tags| tags.keys().map(|key| &**key)).collect();
    if keys.is_empty() { "its tags (it has none)".to_owned() } else { listing(keys, 8) }
}

/// Where an expression begins, for messages about all of it.
fn show_place(expr: &Expr) -> TextSpan {
    match expr {
        Expr::Number(_) => TextSpan::default(),
        Expr::Negate(inner) => show_place(inner),
        Expr::Binary(binary) => binary.operator.place,
        Expr::Call(call) => call.function.place,
        Expr::Reduction(reduction) => reduction.reducer.place,
        Expr::Points(of) => of.metric.place,
        Expr::Selection(of) => of.metric.place,
    }
}

/// Whether a reducer takes values of one window, which have no order in time.
fn reduces_lines(reducer: &Reducer) -> bool {
    use Reducer::*;
    matches!(reducer, Count | Sum | Mean | Min | Max | Spread | Stddev | Variance | Quantile(_) | Distinct)
}

/// Whether what is made of points looks at each by itself.
fn takes_tests(take: &Take) -> bool {
    match take {
        Take::Points => true,
        Take::Moment => false,
        Take::Reduced(reducer) => reduces_lines(reducer) || matches!(reducer, Reducer::First | Reducer::Last | Reducer::Slope),
    }
}

/// Whether a metric's kind has what is asked for.
fn check_reducer(reducer: &Reducer, place: TextSpan, facts: &MetricTraits) -> Result<(), QueryError> {
    use Reducer::*;
    let metric = &facts.metric;
    let fault = |message: String, help: &str| Err(QueryError::new(place, message).with_help(help));
    match (facts.kind, reducer) {
        (_, Coverage) if facts.interval.is_none() => fault(
            format!("the interval of `{metric}` is not defined, so its coverage is unknown"),
            &format!("define it: fenetre metrics define {metric} --interval 1m"),
        ),
        (_, Count | Coverage) => Ok(()),
        (Kind::State, First | Last | Changes | Distinct | TimeIn(_) | ShareIn(_)) => Ok(()),
        (Kind::State, _) => fault(
            format!("`{metric}` is a state, whose values are words: they have no {}", reducer.word()),
            "for a state, use last, first, count, changes, distinct, time_in(\"…\"), share_in(\"…\") and coverage; and `points`",
        ),
        (_, TimeIn(_) | ShareIn(_)) => fault(
            format!("`{metric}` is a {}: only states have time in a state", facts.kind),
            "count what fulfils a condition: count of METRIC where value > 3",
        ),
        (Kind::Histogram, Growth | Rate | Sum | Mean | Quantile(_)) => Ok(()),
        (Kind::Histogram, _) => fault(
            format!("`{metric}` is a histogram, which has no {}", reducer.word()),
            "for a histogram, use growth (observations), rate, sum and mean (of observations), median and p1 to p99.9, count (points); and `points`",
        ),
        (Kind::Gauge, Growth | Rate | SpotRate) => fault(
            format!("`{metric}` is a gauge, and {} is for counters: it takes every decrease for a reset", reducer.word()),
            &format!("use `delta` for the difference and `slope` for the rate; to make it a counter: fenetre metrics define {metric} --kind counter"),
        ),
        (Kind::Gauge | Kind::Counter, _) => Ok(()),
    }
}

fn unit_of(reducer: &Reducer, facts: &MetricTraits, unit: Option<&str>) -> Option<String> {
    use Reducer::*;
    match reducer {
        Count | Changes | Distinct | Coverage | ShareIn(_) => None,
        TimeIn(_) => Some("s".to_owned()),
        Growth if facts.kind == Kind::Histogram => None,
        Rate if facts.kind == Kind::Histogram => Some(units::per_second(None)),
        Rate | SpotRate | Slope => Some(units::per_second(unit)),
        Area(_) => Some(units::times_seconds(unit)),
        Variance => unit.map(units::squared),
        Sum | Mean | Min | Max | Spread | First | Last | Stddev | Quantile(_) | Delta | Growth | TimeMean(_) => unit.map(str::to_owned),
    }
}
