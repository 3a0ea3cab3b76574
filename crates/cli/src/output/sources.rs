//! What answered for which part of time, as a table.

use fenetre_core::time::Nanos;
use fenetre_formats::document::SourceDocument;

use super::{
    list::{aligned, plain_table},
    words::{Clock, instant},
};

/// A row for each part of each read, with its source. Empty if all of it is points, the usual case.
pub fn sources(parts: &[SourceDocument], zone: &str, now: Nanos) -> String {
    if parts.iter().all(|part| part.source == "points") {
        return String::new();
    }
    let ends: Vec<Nanos> = parts.iter().flat_map(|part| [instant(&part.from), instant(&part.to)]).collect();
    let clock = Clock::of(zone, now, &ends).in_minutes();
    let mut table = plain_table();
    table.set_header(["read", "from", "to", "source"].map(|name| aligned(name.to_owned(), false)));
    for of_one in parts.chunk_by(|one, next| one.what == next.what) {
        for (at, part) in of_one.iter().enumerate() {
            let what = if at == 0 { part.what.clone() } else { String::new() };
            let times = [&part.from, &part.to].map(|time| clock.format(instant(time)));
            table.add_row([what].into_iter().chain(times).chain([source(part)]).map(|text| aligned(text, false)));
        }
    }
    table.trim_fmt()
}

/// `1h rollup`, `points: today`, or `nothing: points are no longer kept`.
fn source(part: &SourceDocument) -> String {
    let name = match part.source.as_str() {
        "points" | "nothing" => part.source.clone(),
        width => format!("{width} rollup"),
    };
    part.why.as_ref().map_or_else(|| name.clone(), |why| format!("{name}: {why}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(what: &str, hours: [u8; 2], source: &str, why: Option<&str>) -> SourceDocument {
        let [from, to] = hours.map(|hour| format!("2026-05-01T{hour:02}:00:00+01:00"));
        SourceDocument { what: what.to_owned(), from, to, source: source.to_owned(), why: why.map(str::to_owned) }
    }

    #[test]
    fn each_segment_names_its_source_and_reason() {
        let parts = [
            part("mean of level", [0, 2], "nothing", Some("points are no longer kept")),
            part("mean of level", [2, 9], "1h", None),
            part("mean of level", [9, 12], "points", Some("no rollup here yet")),
            part("growth of boats", [0, 12], "5m", None),
        ];
        insta::assert_snapshot!(sources(&parts, "Europe/Lisbon", instant("2026-05-01T12:00:00+01:00")));
    }

    #[test]
    fn a_few_points_need_no_table() {
        assert_eq!(sources(&[part("level", [0, 2], "points", None)], "UTC", 0), "");
    }
}
