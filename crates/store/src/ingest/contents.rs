//! Contents of a batch: points, their series, and the words and histograms that values refer to.

use fenetre_core::{
    model::{Cause, Histogram, Kind, Refusal, SeriesId, ValueRef, check_tag_value, split_integer},
    time::Nanos,
};
use hashbrown::HashMap;

use super::claims::{Claims, RuleId};

/// Points of a batch and what they refer to.
#[derive(Default)]
pub struct Contents {
    pub rows: Rows,
    /// Series with points in the batch.
    pub slots: Vec<Slot>,
    pub words: Vec<String>,
    pub histograms: Vec<Histogram>,
    words_by_text: HashMap<String, u32>,
}

/// Points in order of arrival.
#[derive(Default)]
pub struct Rows {
    /// The slot of each.
    pub slots: Vec<u32>,
    pub times: Vec<Nanos>,
    /// Numbers; of a state, places in the batch's words; of a histogram, places in its histograms.
    pub values: Vec<f64>,
    /// Rests of integers that no double holds, by row.
    pub rests: Vec<(usize, i16)>,
}

/// A series of the batch.
#[derive(Clone, Copy, Debug)]
pub struct Slot {
    pub series: SlotSeries,
    pub kind: Kind,
    pub points: usize,
    /// The first instant that its metric keeps.
    pub earliest: Nanos,
    /// How its values are taken.
    pub rule: RuleId,
}

#[derive(Clone, Copy, Debug)]
pub enum SlotSeries {
    Known(SeriesId),
    /// Index into the batch's new series.
    New(usize),
}

impl Contents {
    /// Adds a series; its number is its slot.
    pub fn add_slot(&mut self, slot: Slot) -> u32 {
        self.slots.push(slot);
        self.slots.len() as u32 - 1
    }

    /// Adds a point of a slot.
    pub fn push(&mut self, slot: u32, time: Nanos, value: f64, rest: i16) {
        if rest != 0 {
            self.rows.rests.push((self.rows.times.len(), rest));
        }
        self.rows.slots.push(slot);
        self.rows.times.push(time);
        self.rows.values.push(value);
        self.slots[slot as usize].points += 1;
    }

    /// Points that a later one replaces, since both have the same series and instant.
    pub fn duplicates(&self) -> u64 {
        let Rows { slots, times, .. } = &self.rows;
        let mut last = vec![Nanos::MIN; self.slots.len()];
        let rises = |(slot, time): (&u32, &Nanos)| {
            let before = std::mem::replace(&mut last[*slot as usize], *time);
            before < *time || before == Nanos::MIN
        };
        // Most batches bring each series in order of time.
        if slots.iter().zip(times).all(rises) {
            return 0;
        }
        let mut points: Vec<(u32, Nanos)> = slots.iter().copied().zip(times.iter().copied()).collect();
        points.sort_unstable();
        points.windows(2).filter(|pair| pair[0] == pair[1]).count() as u64
    }

    /// A value as rows hold it: a double, and the difference to the integer that it stands for.
    pub fn value(&mut self, claims: &Claims, name: &str, (kind, rule): (Kind, RuleId), value: ValueRef<'_>) -> Result<(f64, i16), Refusal> {
        let sort = match value {
            ValueRef::Number(_) | ValueRef::Integer(_) => "a number",
            ValueRef::Word(_) => "a text",
            ValueRef::Histogram(_) => "a histogram",
        };
        match (kind, value) {
            (Kind::State, ValueRef::Word(word)) => {
                check_tag_value(word).map_err(|error| Refusal::of(Cause::Value, name, format!("the word {error}")))?;
                if let Some(index) = self.words_by_text.get(word) {
                    return Ok((f64::from(*index), 0));
                }
                let index = self.words.len() as u32;
                self.words.push(word.to_owned());
                self.words_by_text.insert(word.to_owned(), index);
                Ok((f64::from(index), 0))
            }
            (Kind::State, ValueRef::Number(number)) => Err(Refusal::of(
                Cause::Value,
                name,
                format!("is a state, whose values are words: {number} is a number (write \"{number}\" if it is meant as a word)"),
            )),
            (Kind::State, _) => Err(Refusal::of(Cause::Value, name, format!("is a state, whose values are words, and this is {sort}"))),
            (Kind::Histogram, ValueRef::Histogram(histogram)) => {
                histogram.check().map_err(|fault| Refusal::of(Cause::Value, name, format!("the histogram {fault}")))?;
                self.histograms.push(claims.histogram(rule, name, histogram)?);
                Ok(((self.histograms.len() - 1) as f64, 0))
            }
            (Kind::Histogram, _) => Err(Refusal::of(
                Cause::Value,
                name,
                format!("is a histogram, and this is {sort}: write {{\"bounds\": [300, 600], \"counts\": [4, 2, 0], \"sum\": 1800}}"),
            )),
            (_, ValueRef::Number(number)) if number.is_finite() => claims.number(rule, name, (number, 0)),
            (_, ValueRef::Integer(integer)) => claims.number(rule, name, split_integer(integer)),
            (_, ValueRef::Number(number)) if number.is_nan() => {
                Err(Refusal::of(Cause::NotFinite, name, "is not a number (NaN): omit the point if nothing was measured"))
            }
            (_, ValueRef::Number(_)) => Err(Refusal::of(Cause::NotFinite, name, "is infinite, or outside the range of 64-bit floats")),
            (kind, ValueRef::Word(word)) if word.trim().parse::<f64>().is_ok() => {
                // Many senders write numbers as texts.
                let number = word.trim().parse().unwrap_or(f64::NAN);
                self.value(claims, name, (kind, rule), ValueRef::Number(number))
            }
            (kind, ValueRef::Word(word)) => {
                Err(Refusal::of(Cause::Value, name, format!("is a {kind}, whose values are numbers: \"{word}\" is a text")))
            }
            (kind, ValueRef::Histogram(_)) => {
                Err(Refusal::of(Cause::Value, name, format!("is a {kind}, whose values are numbers, and this is a histogram")))
            }
        }
    }
}
