//! Differences between new and stored definitions.

use fenetre_wire::definitions::Differences;

use crate::output::words::{count_of, grouped};

/// Lines that are shown of a long list of differences.
const SHOWN: usize = 40;

/// Prints differences; returns whether there are any.
pub fn show(dataset: &str, differences: &Differences) -> bool {
    let Differences { new, changed, same, .. } = differences;
    let lines: Vec<String> = new
        .iter()
        .map(|name| format!("+ {name}"))
        .chain(changed.iter().map(|change| {
            let or_nothing = |text: &str| if text.is_empty() { "nothing".to_owned() } else { text.to_owned() };
            format!("~ {}: {} {} → {}", change.metric, change.field, or_nothing(&change.before), or_nothing(&change.after))
        }))
        .collect();
    lines.iter().take(SHOWN).for_each(|line| outln!("{line}"));
    if lines.len() > SHOWN {
        outln!("… and {} more", grouped((lines.len() - SHOWN) as u64));
    }
    let metrics: std::collections::BTreeSet<&str> = changed.iter().map(|change| change.metric.as_str()).collect();
    outln!(
        "{dataset}: {}, {} changed, {} as they are",
        count_of(new.len() as u64, "new metric", "new metrics"),
        grouped(metrics.len() as u64),
        grouped(*same)
    );
    !lines.is_empty()
}
