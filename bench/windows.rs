//! Sizes and speeds of rollup windows by kind of series, on one core. `cargo bench -p fenetre-core --bench windows [-- columns]`
//!
//! Windows of an hour and of a day over the standard mix: what a window takes at rest beside its points, how fast windows are made of points, and how
//! fast they are read: what sums and means need, and everything. With `columns`, also what each column of a row takes.

use std::hint::black_box;

use fenetre_core::{
    block::{Columns, encode as encode_points},
    model::Shape,
    rollup::{Contents, Encoded, Level, Roller, Rules, Wants, Window, WindowColumns, column_sizes, decode, encode},
    time::{SECOND, Span},
};
use jiff::tz::TimeZone;

mod mix;
use mix::{BLOCK, BLOCKS, KINDS, Kind, fastest};

/// Windows of a row, as files have them.
const ROW: usize = 256;

fn rules(kind: &Kind) -> Rules {
    let contents = match kind.name {
        "counter with resets" => Contents::Counter,
        "state" => Contents::State,
        _ => Contents::Gauge,
    };
    Rules { contents, shape: Shape::Linear, stale_after: Some(900 * SECOND), covered_within: Some(123 * SECOND) }
}

fn windows(blocks: &[Columns], level: &Level, rules: Rules) -> Vec<Window> {
    let mut roller = Roller::new(level, rules);
    blocks.iter().for_each(|block| roller.add_points(block.points()));
    roller.finish()
}

fn main() {
    let with_columns = std::env::args().any(|argument| argument == "columns");
    let shares: usize = KINDS.iter().map(|kind| kind.share).sum();
    for hours in [1, 24] {
        let level = Level::new(Span::exact(hours * 3_600 * SECOND), TimeZone::UTC).expect("an exact span is a level");
        println!(
            "\n| {hours} h of | bytes a window | of them for sums | bytes of its points | points made of, M/s | read for means, M windows/s | read whole, M/s |"
        );
        println!("|---|---|---|---|---|---|---|");
        let mut mixed = [0.0; 6];
        let mut told = String::new();
        for kind in &KINDS {
            let (blocks, rules) = (mix::blocks(kind), rules(kind));
            let points = (BLOCK * BLOCKS) as f64;
            let made = windows(&blocks, &level, rules);
            let count = made.len() as f64;
            let rows: Vec<Encoded> = made.chunks(ROW).map(|row| encode(row, rules.made())).collect();
            let bytes = |of: fn(&Encoded) -> usize| rows.iter().map(of).sum::<usize>() as f64 / count;
            let (short, more) = (bytes(|row| row.bytes.len()), bytes(|row| row.more.len()));
            let of_points = blocks.iter().map(|block| encode_points(block.points()).len()).sum::<usize>() as f64 / count;
            let making = fastest(|| drop(black_box(windows(&blocks, &level, rules)))) / points;
            let mut columns = WindowColumns::default();
            let mut read = |wants: Wants| {
                fastest(|| {
                    for row in &rows {
                        columns.clear();
                        let parts: [&[u8]; 2] = [&row.bytes, &row.more];
                        // The rows were made above, so they are sound.
                        black_box(decode(if wants.are_more() { &parts } else { &parts[..1] }, wants, &mut columns).is_ok());
                    }
                }) / count
            };
            let (means, whole) = (read(Wants::default()), read(Wants::ALL));
            println!(
                "| {} | {:.1} | {short:.1} | {of_points:.1} | {:.0} | {:.0} | {:.1} |",
                kind.name,
                short + more,
                1e-6 / making,
                1e-6 / means,
                1e-6 / whole
            );
            let share = kind.share as f64 / shares as f64;
            for (sum, of) in mixed.iter_mut().zip([short + more, short, of_points, making, means, whole]) {
                *sum += share * of;
            }
            if with_columns {
                let mut sizes = std::collections::BTreeMap::new();
                for row in &rows {
                    for (name, bytes) in column_sizes(row) {
                        *sizes.entry(name).or_insert(0) += bytes;
                    }
                }
                told += &format!(
                    "{}: {}\n",
                    kind.name,
                    sizes.iter().map(|(name, bytes)| format!("{name} {:.1}", *bytes as f64 / count)).collect::<Vec<_>>().join(", ")
                );
            }
        }
        let [all, short, of_points, making, means, whole] = mixed;
        println!("| mix | {all:.1} | {short:.1} | {of_points:.1} | {:.0} | {:.0} | {:.1} |", 1e-6 / making, 1e-6 / means, 1e-6 / whole);
        print!("{told}");
    }
}
