//! How many points there are, and from when to when.

use fenetre_core::time::{Nanos, format_utc};
use fenetre_store::SeriesCount;
use fenetre_wire::datasets::Stored;

/// The sum over some series.
pub fn stored<'a>(counts: impl IntoIterator<Item = &'a SeriesCount>) -> Stored {
    let (mut points, mut span): (u64, Option<(Nanos, Nanos)>) = (0, None);
    for count in counts {
        points += count.points;
        let (first, last) = span.unwrap_or((count.first, count.last));
        span = Some((first.min(count.first), last.max(count.last)));
    }
    Stored { points, first: span.map(|(first, _)| format_utc(first)), last: span.map(|(_, last)| format_utc(last)) }
}
