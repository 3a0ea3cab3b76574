//! `fenetre peek`: a few latest points of a metric, however many it has.

use fenetre_core::{
    query::write_name,
    time::{Nanos, SECOND, format_utc},
    units,
};
use fenetre_formats::document::{AnswerDocument, ShowDocument};
use fenetre_wire::ask::Question;

use crate::{
    args::PeekArgs,
    client::Client,
    failure::{FAILED, Failure},
    output::words::{grouped, instant, value},
};

/// Series that are shown.
const SHOWN_SERIES: usize = 10;
/// The longest span to look back; a query covers more.
const FURTHEST: Nanos = 400 * 86_400 * SECOND;

/// Shows the points.
pub fn run(args: &PeekArgs) -> Result<(), Failure> {
    let client = Client::of(&args.target.service)?;
    let dataset = args.target.dataset.as_str();
    let known = client.metrics(dataset)?.into_iter().find(|metric| metric.name == args.metric || metric.old_names.contains(&args.metric));
    let metric = known
        .ok_or_else(|| Failure::new(FAILED, format!("the dataset `{dataset}` has no metric `{}`: `fenetre metrics` lists them", args.metric)))?;
    let (Some(first), Some(last)) = (&metric.stored.first, &metric.stored.last) else {
        outln!("{} has no points yet", metric.name);
        return Ok(());
    };
    let (first, last) = (instant(first), instant(last));
    let condition = args.condition.as_ref().map_or(String::new(), |condition| format!(" where {condition}"));
    // Looks back a minute, then two, then four, until it has enough of each series: so it reads little more than it shows.
    let mut back = 60 * SECOND;
    let mut best: Option<AnswerDocument> = None;
    loop {
        let from = last.saturating_sub(back).max(first);
        let query =
            format!("show points of {}{condition} over {} to {}", write_name(&metric.name), format_utc(from), format_utc(last.saturating_add(1)));
        match client.ask(dataset, &Question { query, ..Question::default() }) {
            // More points than an answer may have are more than anybody wants to look at.
            Err(_) if best.is_some() => break,
            answer => best = Some(answer?),
        }
        let is_enough = best.as_ref().is_some_and(|answer| shows(answer, usize::from(args.count)));
        if is_enough || from == first || back > FURTHEST {
            break;
        }
        back = back.saturating_mul(2);
    }
    let Some(answer) = best else { return Ok(()) };
    let Some(show) = answer.shows.first() else { return Ok(()) };
    print(show, usize::from(args.count));
    noteln!(
        "a look at {} points of {}; all of them: fenetre ask 'show points of {} over …'",
        shown_count(show, usize::from(args.count)),
        grouped(metric.stored.points),
        metric.name
    );
    Ok(())
}

fn shows(answer: &AnswerDocument, count: usize) -> bool {
    let lines = answer.shows.first().map_or(&[][..], |show| &show.lines);
    !lines.is_empty() && lines.iter().all(|line| line.values.len() >= count)
}

fn shown_count(show: &ShowDocument, count: usize) -> String {
    let shown: usize = show.lines.iter().take(SHOWN_SERIES).map(|line| line.values.len().min(count)).sum();
    grouped(shown as u64)
}

fn print(show: &ShowDocument, count: usize) {
    let with_points: Vec<_> = show.lines.iter().filter(|line| !line.values.is_empty()).collect();
    for line in with_points.iter().take(SHOWN_SERIES) {
        let tags = line.tags.iter().map(|(key, value)| format!("{key}={value}")).collect::<Vec<_>>().join(" ");
        outln!("{}", if tags.is_empty() { "(no tags)" } else { &tags });
        let times = line.times.as_deref().unwrap_or_default();
        let skipped = line.values.len().saturating_sub(count);
        for (time, point) in times.iter().zip(&line.values).skip(skipped) {
            let time = time.as_deref().unwrap_or_default();
            outln!(
                "  {time}  {} {}",
                value(point.as_ref(), 6).trim_end_matches('0').trim_end_matches('.'),
                units::text(show.unit.as_deref().unwrap_or_default())
            );
        }
    }
    if with_points.len() > SHOWN_SERIES {
        outln!("… and {} more series: narrow with --where", grouped((with_points.len() - SHOWN_SERIES) as u64));
    }
}
