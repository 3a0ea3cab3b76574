//! Windows or a moment: the clauses of the query's text, and where these are silent those from outside.

use jiff::tz::TimeZone;

use super::{Limits, Moment, PlanError, PlannedTime};
use crate::{
    catalogue::Dataset,
    query::{Frame, FrameWidth, InstantText, Moments, QueryError, Range, ReadFrom, Spanned, TextSpan, parse_frame},
    time::{Grid, LocalTime, Nanos, Period, TimeError, TimeRange, Width, Windows, WindowsError, parse_instant, zone, zoned},
};

/// The two places that a frame's clauses come from; the text wins.
pub struct FrameSource<'a> {
    pub own: &'a Frame,
    pub outer: &'a Frame,
}

/// How an error in a clause is reported: as one in the text, or as one in the frame from outside.
pub type Fault = fn(QueryError) -> PlanError;

impl FrameSource<'_> {
    /// What time a query is about, and in which zone.
    pub fn resolve(&self, home: &Dataset, now: Nanos, limits: &Limits, notes: &mut Vec<String>) -> Result<(PlannedTime, TimeZone), PlanError> {
        self.note_overrides(notes);
        let tz = self.zone(home)?;
        // What the text says of time, over a range or at a moment, replaces the other sort from outside.
        let is_moment = self.own.moments.is_some() || (self.own.range.is_none() && self.outer.moments.is_some());
        let time = if is_moment { self.moments(now, &tz, limits)? } else { self.windows(now, &tz, limits)? };
        Ok((time, tz))
    }

    fn note_overrides(&self, notes: &mut Vec<String>) {
        // A moment and a range are two sorts of question: the one is not asked instead of the other.
        let clauses: [fn(&Frame) -> Frame; 9] = [
            |frame| Frame { range: frame.range.clone(), ..Frame::default() },
            |frame| Frame { moments: frame.moments.clone(), ..Frame::default() },
            |frame| Frame { width: frame.width.clone(), ..Frame::default() },
            |frame| Frame { stepping: frame.stepping.clone(), ..Frame::default() },
            |frame| Frame { starting: frame.starting.clone(), ..Frame::default() },
            |frame| Frame { taking: frame.taking.clone(), within: frame.within.clone(), ..Frame::default() },
            |frame| Frame { zone: frame.zone.clone(), ..Frame::default() },
            |frame| Frame { gaps: frame.gaps.clone(), ..Frame::default() },
            |frame| Frame { source: frame.source.clone(), ..Frame::default() },
        ];
        for clause in clauses {
            let (own, outer) = (clause(self.own).to_text(), clause(self.outer).to_text());
            if !own.is_empty() && !outer.is_empty() && own != outer {
                notes.push(format!("the query's own `{own}` was used, not the frame's `{outer}`"));
            }
        }
    }

    /// A clause from the text, or else from outside, and how an error in it is reported.
    fn clause<T: Clone>(&self, of: impl Fn(&Frame) -> Option<&Spanned<T>>) -> Option<(T, TextSpan, Fault)> {
        let own = of(self.own).map(|clause| (clause.value.clone(), clause.place, PlanError::Query as Fault));
        own.or_else(|| of(self.outer).map(|clause| (clause.value.clone(), clause.place, PlanError::Frame as Fault)))
    }

    /// From what points are read, where a clause says so.
    pub fn source(&self) -> Option<(ReadFrom, TextSpan, Fault)> {
        self.clause(|frame| frame.source.as_ref())
    }

    fn zone(&self, home: &Dataset) -> Result<TimeZone, PlanError> {
        match self.clause(|frame| frame.zone.as_ref()) {
            Some((name, place, fault)) => zone(&name).map_err(|error| fault(QueryError::new(place, error.to_string()))),
            None => Ok(zone(&home.definition.zone).unwrap_or(TimeZone::UTC)),
        }
    }

    fn moments(&self, now: Nanos, tz: &TimeZone, limits: &Limits) -> Result<PlannedTime, PlanError> {
        let (moments, place, fault) = self.clause(|frame| frame.moments.as_ref()).ok_or(PlanError::NoFrame)?;
        let mut instants = match &moments {
            Moments::Listed(listed) => {
                // Clauses of windows that the text itself has are a mistake; those from outside are for other questions.
                let stray = [self.own.width.as_ref().map(|clause| clause.place), self.own.stepping.as_ref().map(|clause| clause.place)];
                if let Some(place) = stray.into_iter().flatten().next() {
                    let error = QueryError::new(place, "a moment has no windows");
                    return Err(PlanError::Query(error.with_help("leave this out, or ask `over` a range of time")));
                }
                listed.iter().map(|instant| resolve(instant, now, tz)).collect::<Result<Vec<_>, _>>().map_err(fault)?
            }
            Moments::Starts => {
                let windows = match self.windows(now, tz, limits) {
                    Ok(PlannedTime::Windows(windows, _)) => windows,
                    Ok(PlannedTime::Moments(_)) | Err(PlanError::NoFrame) => {
                        let error = QueryError::new(place, "`at starts` means the start of each window, and the query has no windows");
                        return Err(fault(error.with_help("write for example: over last 24h per 1h at starts")));
                    }
                    Err(error) => return Err(error),
                };
                let passed = |at: &Nanos| windows.range().contains(*at) && *at <= now;
                (0..windows.len()).map(|index| windows.start(index)).filter(passed).collect()
            }
        };
        instants.sort_unstable();
        instants.dedup();
        if instants.len() > limits.windows {
            let error = QueryError::new(place, format!("the query has {} instants, the limit is {}", instants.len(), limits.windows));
            return Err(fault(error.with_help("ask for fewer, or use wider windows")));
        }
        let taking = self.clause(|frame| frame.taking.as_ref()).map(|(taking, ..)| taking).unwrap_or_default();
        let within = self.clause(|frame| frame.within.as_ref()).map(|(span, ..)| span);
        let moment = |at: Nanos| Moment { at, taking, within: within.map(|span| at.saturating_sub(span.before(at, tz))) };
        Ok(PlannedTime::Moments(instants.into_iter().map(moment).collect()))
    }

    fn windows(&self, now: Nanos, tz: &TimeZone, limits: &Limits) -> Result<PlannedTime, PlanError> {
        let stray = [self.own.taking.as_ref().map(|clause| clause.place), self.own.within.as_ref().map(|clause| clause.place)];
        let stray = if self.own.moments.is_some() { [None, None] } else { stray };
        if let Some(place) = stray.into_iter().flatten().next() {
            let error = QueryError::new(place, "this needs an instant (`at`), and the query has none");
            return Err(PlanError::Query(error.with_help("ask `at` an instant, such as `at now`, instead of `over` a range")));
        }
        let (range, range_place, fault) = self.clause(|frame| frame.range.as_ref()).ok_or(PlanError::NoFrame)?;
        let range = range_at(&range, range_place, now, tz).map_err(fault)?;
        let stepping = self.clause(|frame| frame.stepping.as_ref());
        let starting: Option<(LocalTime, TextSpan, Fault)> = self.clause(|frame| frame.starting.as_ref());
        let (width, mut place, mut fault) = match self.clause(|frame| frame.width.as_ref()) {
            Some((FrameWidth::Of(span), place, fault)) => (Width::Of(span), place, fault),
            Some((FrameWidth::Auto, place, fault)) => (Width::Auto, place, fault),
            None => (Width::Whole, range_place, fault),
        };
        let grid = Grid { width, stepping: stepping.as_ref().map(|(span, ..)| *span), starting: starting.as_ref().map(|(time, ..)| *time) };
        let windows = Windows::cut(range, grid, tz, limits.windows).map_err(|error| {
            match (&error, &stepping, &starting) {
                (WindowsError::Step { .. } | WindowsError::StepOfNothing, Some((_, at, message)), _)
                | (WindowsError::Starting(_) | WindowsError::StartingNothing | WindowsError::SteppingAndStarting, _, Some((_, at, message))) => {
                    (place, fault) = (*at, *message);
                }
                _ => {}
            }
            fault(QueryError::new(place, error.to_string()))
        })?;
        let gaps = self.clause(|frame| frame.gaps.as_ref()).map(|(gaps, ..)| gaps).unwrap_or_default();
        Ok(PlannedTime::Windows(windows, gaps))
    }
}

/// The range of time that a text names, such as `last 1d` or `2026-05-01 to 2026-05-02`, in a zone.
///
/// # Errors
/// [`QueryError`] with the place in `over` and the text.
pub fn range_of(text: &str, home: &str, now: Nanos) -> Result<TimeRange, QueryError> {
    let frame = parse_frame(&format!("over {text}"))?;
    let alone = Frame { range: frame.range.clone(), ..Frame::default() };
    match &frame.range {
        Some(range) if frame == alone => range_at(&range.value, range.place, now, &zone(home).unwrap_or(TimeZone::UTC)),
        _ => Err(QueryError::new(TextSpan { start: 0, end: text.len() + 5 }, "only a range of time is needed here")
            .with_help("write for example: last 1d")),
    }
}

fn range_at(range: &Range, place: TextSpan, now: Nanos, tz: &TimeZone) -> Result<TimeRange, QueryError> {
    let at = |instant: &Spanned<InstantText>| resolve(instant, now, tz);
    let range = match range {
        Range::Last(span) => TimeRange { start: span.before(now, tz), end: now },
        Range::Since(from) => TimeRange { start: at(from)?, end: now },
        Range::Between(from, to) => TimeRange { start: at(from)?, end: at(to)? },
        Range::Calendar(date) => whole(date, place, now, tz)?,
    };
    if range.is_empty() {
        let error = QueryError::new(place, "the range ends before it begins");
        return Err(error.with_help("the end must be after the start; it is not part of the range"));
    }
    Ok(range)
}

fn midnight(days_ago: i64, now: Nanos, tz: &TimeZone) -> String {
    zoned(now, tz).date().saturating_sub(jiff::Span::new().days(days_ago)).to_string()
}

fn resolve(instant: &Spanned<InstantText>, now: Nanos, tz: &TimeZone) -> Result<Nanos, QueryError> {
    let InstantText { base, minus } = &instant.value;
    let at = match base.as_str() {
        "now" => Ok(now),
        "today" => parse_instant(&midnight(0, now, tz), tz),
        "yesterday" => parse_instant(&midnight(1, now, tz), tz),
        date => parse_instant(date, tz),
    };
    let at = at.map_err(|error| QueryError::new(instant.place, error.to_string()))?;
    Ok(minus.map_or(at, |span| span.before(at, tz)))
}

/// The whole of a period, today or yesterday.
fn whole(name: &str, place: TextSpan, now: Nanos, tz: &TimeZone) -> Result<TimeRange, QueryError> {
    let text = match name {
        "today" => midnight(0, now, tz),
        "yesterday" => midnight(1, now, tz),
        other => other.to_owned(),
    };
    let range = Period::parse(&text).ok_or(TimeError::NotATime { text }).and_then(|period| period.range(tz));
    range.map_err(|error| QueryError::new(place, error.to_string()))
}
