//! A plan for people.

use std::fmt::Write as _;

use fenetre_core::units;
use fenetre_formats::plan_document::{PlanDocument, PlannedShowDocument, ReadDocument};

use super::{
    list::{aligned, plain_table},
    sources::sources,
    terminal::paragraph,
    words::{Clock, bytes, grouped, instant},
};

/// What a query would read and compute.
pub fn text(plan: &PlanDocument) -> String {
    let mut out = String::new();
    for line in plan.query.lines() {
        let _ = writeln!(out, "  {line}");
    }
    let ends = [instant(&plan.from), instant(&plan.to)];
    let clock = Clock::of(&plan.zone, ends[1], &ends).in_minutes();
    let range = if plan.from == plan.to {
        format!("at {}", clock.format(ends[0]))
    } else {
        format!("{} to {}", clock.format(ends[0]), clock.format(ends[1]))
    };
    let _ = writeln!(out, "\n{range} ({})\n{}\n", plan.zone, plan.time);
    out.push_str(&reads(&plan.reads));
    for part in [sources(&plan.sources, &plan.zone, ends[1]), shows(&plan.shows)] {
        if !part.is_empty() {
            let _ = writeln!(out, "\n{part}");
        }
    }
    for note in &plan.notes {
        let _ = writeln!(out, "note: {note}");
    }
    out
}

/// What is read: first how much, then how.
fn reads(reads: &[ReadDocument]) -> String {
    let mut table = plain_table();
    table.set_header(
        ["read", "series", "lines", "points", "packed"]
            .into_iter()
            .zip([false, true, true, true, true])
            .map(|(name, right)| aligned(name.to_owned(), right)),
    );
    for read in reads {
        let count = |count: Option<u64>| count.map_or("–".to_owned(), grouped);
        let weight = read.bytes.map_or("–".to_owned(), bytes);
        let figures = [grouped(read.series), grouped(read.lines), count(read.points), weight];
        table.add_row([aligned(read.what.clone(), false)].into_iter().chain(figures.map(|text| aligned(text, true))));
    }
    let mut out = format!("{}\n", table.trim_fmt());
    for of_one in reads.chunk_by(|one, next| one.how == next.how) {
        let whose = if of_one.len() == reads.len() {
            String::new()
        } else {
            format!("{}: ", of_one.iter().map(|read| read.what.as_str()).collect::<Vec<_>>().join(", "))
        };
        let _ = writeln!(out, "{}", paragraph(&format!("  {whose}{}", of_one[0].how), "  "));
    }
    out
}

/// What comes out.
fn shows(shows: &[PlannedShowDocument]) -> String {
    let mut table = plain_table();
    table.set_header([aligned("show".to_owned(), false), aligned("unit".to_owned(), false), aligned("lines".to_owned(), true)]);
    for show in shows {
        let unit = show.unit.as_deref().map_or("–".to_owned(), units::text);
        table.add_row([aligned(show.label.clone(), false), aligned(unit, false), aligned(grouped(show.lines), true)]);
    }
    table.trim_fmt()
}

#[cfg(test)]
mod tests {
    use fenetre_formats::document::SourceDocument;

    use super::*;

    #[test]
    fn a_plan_renders_as_text() {
        let read = |what: &str, weight: Option<(u64, u64)>| ReadDocument {
            what: what.to_owned(),
            series: 12,
            lines: 1,
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
            sources: vec![SourceDocument {
                what: "mean of level".to_owned(),
                from: "2026-05-01T00:00:00+01:00".to_owned(),
                to: "2026-05-02T00:00:00+01:00".to_owned(),
                source: "1h".to_owned(),
                why: None,
            }],
            shows: vec![PlannedShowDocument { label: "a".to_owned(), unit: Some("cm".to_owned()), lines: 1 }],
            notes: vec!["`b` is given a name and not used".to_owned()],
        };
        insta::assert_snapshot!(text(&plan));
    }
}
