//! Counts and sums per window, by which a destination is compared with the store.

use fenetre_core::{
    evaluate::{EvaluateError, read},
    model::Value,
    plan::{Limits, plan},
    query::{Frame, parse, write_name, write_text},
    time::{Nanos, SECOND, format_utc, parse_rfc3339},
    visibility::{Visibility, VisibleCatalogue},
};
use fenetre_formats::document::AnswerDocument;
use fenetre_store::Store;

use super::destination::{Inquiry, WindowSums};
use crate::error::FlowError;

/// The text of a query for the sums of a metric at a destination.
pub fn question_text(inquiry: &Inquiry<'_>) -> String {
    let tests = inquiry.tags.iter().map(|(key, value)| format!("{} = {}", write_name(key), write_text(value)));
    text(inquiry, &tests.collect::<Vec<_>>().join(" and "))
}

/// A query for the sums of a metric whose series fulfil a condition.
pub fn text(inquiry: &Inquiry<'_>, condition: &str) -> String {
    let of = format!("{}{}", write_name(inquiry.metric), if condition.is_empty() { String::new() } else { format!(" where {condition}") });
    let sum = if inquiry.is_number { format!(" show sum of {of} overall") } else { String::new() };
    let (start, end, width) = (format_utc(inquiry.start), format_utc(inquiry.end), inquiry.width / SECOND);
    format!("show count of {of} overall{sum} over {start} to {end} per {width}s zone \"UTC\"")
}

/// The sums in an answer, by the start of their windows. Empty windows are omitted.
pub fn sums_of(answer: &AnswerDocument) -> Vec<(Nanos, WindowSums)> {
    let values = |show: usize| answer.shows.get(show).and_then(|show| show.lines.first()).map(|line| &line.values);
    let number = |show: usize, at: usize| values(show).and_then(|values| values.get(at)?.as_ref()).and_then(Value::number);
    let sums = answer.windows.starts.iter().enumerate().filter_map(|(at, start)| {
        let count = number(0, at).unwrap_or(0.0) as u64;
        (count > 0).then(|| Some((parse_rfc3339(start).ok()?, WindowSums { count, sum: number(1, at) }))).flatten()
    });
    sums.collect()
}

/// The sums of the store itself.
///
/// # Errors
/// If the query cannot be answered.
pub fn own_sums(store: &Store, dataset: &str, inquiry: &Inquiry<'_>, condition: &str, now: Nanos) -> Result<Vec<(Nanos, WindowSums)>, FlowError> {
    let text = text(inquiry, condition);
    let parsed = parse(&text).map_err(|error| FlowError::Definition(error.to_string()))?;
    let planned = store.with_catalogue(|catalogue| {
        let visibility = Visibility::everything();
        plan(&parsed, &Frame::default(), VisibleCatalogue::new(catalogue, &visibility), dataset, now, &Limits::default())
            .map_err(|error| FlowError::Definition(error.to_string()))
    })?;
    let gathered = read(planned, &store.source(), &|| false).map_err(|error: EvaluateError| FlowError::Peer(error.to_string()))?;
    Ok(sums_of(&AnswerDocument::of(gathered.answer())))
}
