//! Which reducers windows answer, and with what of them.

use super::rows::Wants;
use crate::{
    model::{Kind, MetricTraits},
    query::Reducer,
};

/// How a reducer is answered from windows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Use {
    /// What is read of them.
    pub wants: Wants,
    /// Whether it is within one percent, and not exact: points are better where they are.
    pub is_sketched: bool,
    /// Whether it looks at neighbours, and so windows must have been made by the rules that the metric has today.
    pub joins: bool,
}

/// How a reducer of a metric is answered from windows; none where only points will do.
pub fn use_of(reducer: &Reducer, facts: &MetricTraits) -> Option<Use> {
    use Reducer::*;
    let plain = Use { wants: Wants::default(), is_sketched: false, joins: false };
    let extremes = Use { wants: Wants { extremes: true, ..Wants::default() }, ..plain };
    let ends = Use { wants: Wants { ends: true, ..Wants::default() }, ..plain };
    let scatter = Use { wants: Wants { scatter: true, ..Wants::default() }, ..plain };
    let trend = Use { wants: Wants { trend: true, ..Wants::default() }, ..plain };
    let steps = Use { wants: Wants { ends: true, steps: true, ..Wants::default() }, joins: true, ..plain };
    let states = Use { wants: Wants { states: true, ..steps.wants }, ..steps };
    Some(match (facts.kind, reducer) {
        (_, SpotRate) => return None,
        (_, Count) => plain,
        (_, Coverage) => steps,
        // Of a histogram's observations: growth of its parts, or their sums.
        (Kind::Histogram, _) => steps,
        (Kind::State, First | Last) => ends,
        (Kind::State, Distinct) => Use { joins: false, ..states },
        (Kind::State, TimeIn(_) | ShareIn(_)) => states,
        (Kind::State, Changes) => steps,
        (Kind::State, _) => return None,
        (_, Sum | Mean) => plain,
        (_, Min | Max | Spread) => extremes,
        (_, First | Last) => ends,
        (_, Stddev | Variance) => scatter,
        (_, Slope) => trend,
        (_, Quantile(_)) => Use { wants: Wants { extremes: true, sketch: true, ..Wants::default() }, is_sketched: true, ..plain },
        // Windows were made by the metric's shape.
        (_, Area(Some(shape)) | TimeMean(Some(shape))) if *shape != facts.shape => return None,
        (_, Delta | Growth | Rate | Area(_) | TimeMean(_) | Changes) => steps,
        (_, Distinct | TimeIn(_) | ShareIn(_)) => return None,
    })
}
