//! A query whose windows a sink sends.

use fenetre_core::{
    model::check_name,
    query::{Expr, Frame, FrameWidth, Of, Query, parse},
    time::{Grid, SECOND, Span, Width},
};

/// Days and longer windows begin with the calendar; their starts are found by the hour.
const HOUR: i64 = 3_600 * SECOND;

/// A query that was checked.
#[derive(Clone, Debug)]
pub struct WindowQuery {
    /// The query, without a range of time.
    pub query: Query,
    /// Names of the metrics at the destination, one per `show`, before they are renamed.
    pub names: Vec<String>,
    /// The windows.
    pub grid: Grid,
    /// Width of the windows.
    pub width: Span,
    /// Zone of the calendar (default: that of the dataset).
    pub zone: Option<String>,
}

impl WindowQuery {
    /// Reads a query.
    ///
    /// # Errors
    /// What is wrong, and what to write.
    pub fn parse(text: &str) -> Result<Self, String> {
        let query = parse(text).map_err(|error| error.to_string())?;
        let Frame { range, width, stepping, starting, moments, zone, .. } = query.frame.clone().unwrap_or_default();
        if range.is_some() || moments.is_some() {
            return Err("a sink sends each window when it is closed: remove `over` and `at`".to_owned());
        }
        if stepping.is_some() {
            return Err("windows of a sink must not overlap: remove `stepping`".to_owned());
        }
        let Some(FrameWidth::Of(span)) = width.map(|width| width.value) else {
            return Err("a sink needs windows of one width: write one, such as `per 1m`".to_owned());
        };
        for show in &query.shows {
            if matches!(show.expr, Expr::Points(_)) {
                return Err("`points of` has no windows: remove `query`, and choose points with `metrics` and `where`".to_owned());
            }
            if show.rank.is_some() {
                return Err("`top` and `bottom` compare lines over a range of time, which a sink does not have: remove them".to_owned());
            }
        }
        if query.selections().iter().any(|selection| selection.earlier.is_some()) {
            return Err("windows of a sink must not look back: remove `earlier`".to_owned());
        }
        let names = query.shows.iter().map(|show| show.label.clone().or_else(|| metric_of(&show.expr)));
        let names = names.collect::<Option<Vec<String>>>().ok_or("name each result, such as `show failed / all as \"failed_share\"`")?;
        for (at, name) in names.iter().enumerate() {
            check_name(name).map_err(|error| format!("the name `{name}` {error}"))?;
            if names[..at].contains(name) {
                return Err(format!("two results have the name `{name}`: name one of them, such as `show max of {name} as \"{name}_max\"`"));
            }
        }
        let grid = Grid { width: Width::Of(span), stepping: None, starting: starting.map(|time| time.value) };
        Ok(Self { query, names, grid, width: span, zone: zone.map(|zone| zone.value) })
    }

    /// By how much instants are rounded down when they are noted, in nanoseconds.
    pub fn quantum(&self) -> i64 {
        if self.width.is_calendar() || self.grid.starting.is_some() { HOUR } else { self.width.nanos.max(1) }
    }

    /// How long after a noted instant the next window begins at most, in nanoseconds. A day has up to 25 hours, a month up to 31 days.
    pub fn reach(&self) -> i64 {
        let days = i64::from(self.width.days) + 31 * i64::from(self.width.months);
        self.quantum().saturating_add(self.width.nanos).saturating_add(days.saturating_mul(25 * HOUR))
    }
}

/// The metric of a simple result, such as `mean of level by lock`.
fn metric_of(expr: &Expr) -> Option<String> {
    match expr {
        Expr::Reduction(reduction) => match &reduction.of {
            Of::Selection(selection) => Some(selection.metric.value.metric.clone()),
            Of::Lines(lines) => metric_of(lines),
        },
        _ => None,
    }
}
