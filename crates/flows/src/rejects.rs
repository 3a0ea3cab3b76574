//! Rejects of a source by reason, with the latest of each.

use std::collections::BTreeMap;

use fenetre_core::model::Cause;
use fenetre_formats::Tally;
use fenetre_wire::sources::SourceReject;

/// Samples that are kept of each reason.
const MAX_SAMPLES: usize = 5;

/// Counts by reason, each with its latest samples.
#[derive(Clone, Debug, Default)]
pub struct Rejects(BTreeMap<Cause, SourceReject>);

impl Rejects {
    /// Those of a body. Its rows have places; `at` names the body, if a round has several.
    pub fn of_body(tally: &Tally, at: Option<&str>) -> Self {
        let mut rejects = Self::default();
        for (cause, count) in &tally.causes {
            let of_cause = tally.rejects.iter().filter(|reject| reject.cause == *cause).rev().take(MAX_SAMPLES);
            let at = at.map_or(String::new(), |at| format!("{at}, "));
            let mut samples: Vec<String> = of_cause.map(|reject| format!("{at}{}: {}", reject.place(), reject.reason)).collect();
            samples.reverse();
            rejects.0.insert(*cause, SourceReject { count: *count, samples, ..none(*cause) });
        }
        rejects
    }

    /// Adds one. The sentence is only built if it can be kept.
    pub fn add(&mut self, cause: Cause, sentence: impl FnOnce() -> String) {
        let known = self.0.entry(cause).or_insert_with(|| none(cause));
        known.count += 1;
        if known.samples.len() < MAX_SAMPLES {
            known.samples.push(sentence());
        }
    }

    /// Adds later ones; their samples replace older ones.
    pub fn absorb(&mut self, later: Self) {
        for (cause, SourceReject { count, samples, .. }) in later.0 {
            let known = self.0.entry(cause).or_insert_with(|| none(cause));
            known.count += count;
            known.samples.extend(samples);
            let old = known.samples.len().saturating_sub(MAX_SAMPLES);
            known.samples.drain(..old);
        }
    }

    /// How many there are.
    pub fn count(&self) -> u64 {
        self.0.values().map(|of_cause| of_cause.count).sum()
    }

    /// One of them, in a sentence.
    pub fn sample(&self) -> Option<&str> {
        self.0.values().find_map(|of_cause| of_cause.samples.last()).map(String::as_str)
    }

    /// All reasons.
    pub fn list(&self) -> Vec<SourceReject> {
        self.0.values().cloned().collect()
    }
}

/// No reject of a reason.
fn none(cause: Cause) -> SourceReject {
    SourceReject { cause, text: cause.describe().to_owned(), count: 0, samples: Vec::new() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_reject_is_counted_and_the_latest_are_samples() {
        let mut all = Rejects::default();
        for round in 0..3 {
            let mut later = Rejects::default();
            (0..4).for_each(|number| later.add(Cause::Value, || format!("{round}.{number}")));
            later.add(Cause::Time, || "no time".to_owned());
            all.absorb(later);
        }
        let list = all.list();
        assert_eq!((all.count(), list.len(), list[0].cause, list[0].count), (15, 2, Cause::Time, 3));
        assert_eq!(list[1].samples, ["1.3", "2.0", "2.1", "2.2", "2.3"]);
        assert_eq!(all.sample(), Some("no time"));
    }
}
