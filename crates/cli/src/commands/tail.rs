//! `fenetre tail`: points as they arrive.

use fenetre_wire::arrivals::TailReport;

use crate::{
    args::TailArgs,
    client::Client,
    failure::Failure,
    output::words::{count_of, grouped, utc},
};

/// Shows batches until it is interrupted, or so many have come.
pub fn run(args: &TailArgs) -> Result<(), Failure> {
    let mut left = args.batches;
    Client::of(&args.service)?.tail(args.dataset.as_deref(), |line| {
        if let Some(comment) = line.strip_prefix(": ") {
            noteln!("{comment}");
        }
        let Some(report) = line.strip_prefix("data: ").and_then(|data| serde_json::from_str::<TailReport>(data).ok()) else { return true };
        outln!(
            "{} {}: {}, {} rejected",
            utc(Some(&report.time)),
            report.dataset,
            count_of(report.accepted, "point", "points"),
            grouped(report.rejected)
        );
        for point in &report.points {
            let tags = point.tags.iter().map(|(key, value)| format!("{key}={value}")).collect::<Vec<_>>().join(" ");
            outln!("  {}  {}  {tags}  {}", point.time, point.metric, point.value);
        }
        if let Some(left) = &mut left {
            *left -= 1;
        }
        left != Some(0)
    })
}
