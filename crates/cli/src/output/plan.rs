//! A plan for people.

use std::fmt::Write as _;

use fenetre_formats::plan_document::PlanDocument;

use super::{
    terminal::paragraph,
    words::{Clock, bytes, count_of, instant},
};

/// What a query would read and compute.
pub fn told(plan: &PlanDocument) -> String {
    let mut out = String::new();
    for line in plan.query.lines() {
        let _ = writeln!(out, "  {line}");
    }
    let ends = [instant(&plan.from), instant(&plan.to)];
    let clock = Clock::of(&plan.zone, ends[1], &ends).in_minutes();
    let range =
        if plan.from == plan.to { format!("at {}", clock.tell(ends[0])) } else { format!("{} to {}", clock.tell(ends[0]), clock.tell(ends[1])) };
    let _ = writeln!(out, "\n{range} ({})\n{}\n", plan.zone, plan.time);
    for (at, read) in plan.reads.iter().enumerate() {
        let _ = writeln!(out, "read {}: {}", at + 1, read.what);
        let mut text = format!("  {} as {}, from {}", count_of(read.series, "series", "series"), count_of(read.lines, "line", "lines"), read.source);
        if let Some((points, weight)) = read.points.zip(read.bytes) {
            let packed = if weight > 0 { format!("{} of blocks", bytes(weight)) } else { "none packed yet".to_owned() };
            let _ = write!(text, "; {} in that time, {packed}", count_of(points, "point", "points"));
        }
        let _ = write!(out, "{}", paragraph(&text, "    "));
        let _ = writeln!(out, "\n  {}", read.how);
    }
    for show in &plan.shows {
        let unit = show.unit.as_ref().map_or(String::new(), |unit| format!(" [{unit}]"));
        let _ = writeln!(out, "show {}{unit}: {}", show.label, count_of(show.lines, "line", "lines"));
    }
    for note in &plan.notes {
        let _ = writeln!(out, "note: {note}");
    }
    out
}

#[cfg(test)]
mod tests {
    use fenetre_formats::plan_document::{PlannedShowDocument, ReadDocument};

    use super::*;

    #[test]
    fn a_plan_reads_as_a_text() {
        let read = |what: &str, weight: Option<(u64, u64)>| ReadDocument {
            what: what.to_owned(),
            series: 12,
            lines: 1,
            source: "points".to_owned(),
            how: "every block is decoded".to_owned(),
            points: weight.map(|(points, _)| points),
            bytes: weight.map(|(_, bytes)| bytes),
        };
        let plan = PlanDocument {
            query: "let a = mean of level\nshow a\nover yesterday\n".to_owned(),
            zone: "Europe/Lisbon".to_owned(),
            from: "2026-05-01T00:00:00+01:00".to_owned(),
            to: "2026-05-02T00:00:00+01:00".to_owned(),
            time: "the whole range as one window; empty ones stay empty".to_owned(),
            reads: vec![read("mean of level", Some((1_234_567, 2_500_000))), read("level", None)],
            shows: vec![PlannedShowDocument { label: "a".to_owned(), unit: Some("cm".to_owned()), lines: 1 }],
            notes: vec!["`b` is given a name and not used".to_owned()],
        };
        insta::assert_snapshot!(told(&plan));
    }
}
