//! How each kind of series moves, and what goes wrong on the waterway.
//!
//! Times are seconds since the waterway began, which is at the start of an hour. The mishaps stand at fixed days, so that each
//! feature has something to show.

use std::f64::consts::TAU;

use fenetre_core::model::{Histogram, ValueRef};
use rand::RngExt;
use rand_chacha::ChaCha8Rng;

const HOUR: f64 = 3_600.0;
const DAY: f64 = 24.0 * HOUR;

/// Bounds of the histograms of lockage times, in seconds.
const LOCKAGE_BOUNDS: [f64; 7] = [240.0, 360.0, 480.0, 600.0, 900.0, 1_200.0, 1_800.0];

/// Words of a gate.
pub const GATE_WORDS: [&str; 4] = ["closed", "moving", "open", "jammed"];

/// A value as it is read.
#[derive(Clone, Debug, PartialEq)]
pub enum Reading {
    /// Of a gauge or a counter.
    Number(f64),
    /// Of a state.
    Word(&'static str),
    /// Of a histogram.
    Histogram(Histogram),
    /// Nothing was read.
    Silence,
}

impl Reading {
    /// The value, as a batch takes it; none of a silence.
    pub fn value(&self) -> Option<ValueRef<'_>> {
        match self {
            Self::Number(number) => Some(ValueRef::Number(*number)),
            Self::Word(word) => Some(ValueRef::Word(word)),
            Self::Histogram(histogram) => Some(ValueRef::Histogram(histogram)),
            Self::Silence => None,
        }
    }
}

/// The state of a series.
pub enum Behaviour {
    Level { base: f64, drift: f64, stuck: Option<f64> },
    Flow { base: f64 },
    Gate { word: usize, until: f64 },
    Count { hourly: f64, total: f64, last: f64 },
    Pump { kilowatts: f64, total: f64, running: bool, last: f64, changed: bool },
    Temperature { base: f64 },
    Turbidity,
    Battery { volts: f64 },
    Lockages { usual: f64, last: f64 },
}

/// Where and when a reading is taken.
pub struct Moment {
    /// Index of the lock, from the top of the canal.
    pub lock: usize,
    /// Index of the series among all.
    pub series: usize,
    /// Seconds since the waterway began.
    pub second: f64,
    /// Hour of the day in UTC, 0 to 24.
    pub hour: f64,
}

impl Behaviour {
    pub fn level(base: f64) -> Self {
        Self::Level { base, drift: 0.0, stuck: None }
    }

    pub fn gate() -> Self {
        Self::Gate { word: 0, until: 0.0 }
    }

    pub fn boats(hourly: f64) -> Self {
        Self::Count { hourly, total: 0.0, last: 0.0 }
    }

    pub fn pump(kilowatts: f64) -> Self {
        Self::Pump { kilowatts, total: 0.0, running: true, last: 0.0, changed: false }
    }

    pub fn battery() -> Self {
        Self::Battery { volts: 12.9 }
    }

    /// The next reading. Every series draws from a generator of its own, whether it is heard or not.
    pub fn read(&mut self, at: &Moment, random: &mut ChaCha8Rng) -> Reading {
        let reading = self.next(at, random);
        if is_silent(at) { Reading::Silence } else { reading }
    }

    fn next(&mut self, at: &Moment, random: &mut ChaCha8Rng) -> Reading {
        let day = at.second / DAY;
        match self {
            Self::Level { base, drift, stuck } => {
                *drift = *drift * 0.9995 + noise(random) * 0.12;
                let daily = 6.0 * (TAU * (at.hour - 4.0) / 24.0).sin() + 2.0 * (TAU * at.second / (7.3 * HOUR)).sin();
                let level = decimals(*base + *drift + daily - 22.0 * dryness(day), 1);
                // The lower gauge at Sedge sticks for a day and a half.
                if at.lock == 6 && at.series % 14 == 1 && (8.3..9.8).contains(&day) {
                    return Reading::Number(*stuck.get_or_insert(level));
                }
                Reading::Number(level)
            }
            Self::Flow { base } => {
                let daily = 1.0 + 0.18 * (TAU * (at.hour - 7.0) / 24.0).sin();
                Reading::Number(decimals((*base * daily * (1.0 - 0.45 * dryness(day)) + noise(random) * 0.22).max(0.0), 3))
            }
            Self::Gate { word, until } => Reading::Word(GATE_WORDS[next_gate(word, until, at, random)]),
            Self::Count { hourly, total, last } => {
                let elapsed = (at.second - *last) / HOUR;
                *last = at.second;
                let expected = *hourly * elapsed * traffic(at.hour) * 2.0;
                let whole = expected.floor();
                *total += whole + f64::from(u8::from(random.random::<f64>() < expected - whole));
                Reading::Number(*total)
            }
            Self::Pump { kilowatts, total, running, last, changed } => {
                if random.random::<f64>() < 0.02 {
                    *running = !*running;
                }
                let elapsed = (at.second - *last) / HOUR;
                *last = at.second;
                *total += if *running { *kilowatts * elapsed * (0.9 + 0.2 * random.random::<f64>()) } else { 0.0 };
                // The meter of the first pump at Harrow is changed.
                if at.lock == 7 && *kilowatts > 10.0 && day > 6.4 && !*changed {
                    *changed = true;
                    *total = 0.0;
                }
                Reading::Number(decimals(*total, 2))
            }
            Self::Temperature { base } => {
                let daily = 1.4 * (TAU * (at.hour - 9.0) / 24.0).sin();
                Reading::Number(decimals(*base + daily + 1.1 * (TAU * day / 11.0).sin() + noise(random) * 0.06, 1))
            }
            Self::Turbidity => {
                let storm = (-((day - 4.6) / 0.35).powi(2)).exp() * 46.0;
                Reading::Number(decimals(4.0 + storm + 1.2 * (TAU * day / 2.7 + at.lock as f64).sin() + random.random::<f64>() * 0.8, 2))
            }
            Self::Battery { volts } => {
                let charging = if (7.0..17.0).contains(&at.hour) { 0.011 } else { -0.008 };
                *volts = (*volts + charging + noise(random) * 0.004).clamp(11.4, 13.4);
                Reading::Number(decimals(*volts, 2))
            }
            Self::Lockages { usual, last } => {
                let elapsed = (at.second - *last) / HOUR;
                *last = at.second;
                let expected = 6.0 * elapsed * traffic(at.hour) * 2.0;
                let count = (expected + noise(random) * expected.sqrt()).round().max(0.0) as usize;
                // Dry weeks are slow: less water fills a chamber.
                let slow = 1.0 + 0.6 * dryness(day);
                lockages((0..count).map(|_| (*usual * slow * (0.5 * (noise(random) + noise(random))).exp()).round()))
            }
        }
    }
}

/// The distribution of the times that some lockages took; of none, nothing is read.
fn lockages(times: impl Iterator<Item = f64>) -> Reading {
    let mut counts = vec![0; LOCKAGE_BOUNDS.len() + 1];
    let mut sum = 0.0;
    for time in times {
        counts[LOCKAGE_BOUNDS.partition_point(|bound| *bound < time)] += 1;
        sum += time;
    }
    if sum == 0.0 { Reading::Silence } else { Reading::Histogram(Histogram { bounds: LOCKAGE_BOUNDS.to_vec(), counts, sum }) }
}

/// Opens, stays open, closes, stays closed; the gate at Quill jams for half a day.
fn next_gate(word: &mut usize, until: &mut f64, at: &Moment, random: &mut ChaCha8Rng) -> usize {
    if at.lock == 5 && (10.1..10.6).contains(&(at.second / DAY)) {
        return 3;
    }
    if at.second >= *until {
        *word = (*word + 1) % 4;
        let minutes = match *word {
            0 => 25.0 + 60.0 * random.random::<f64>() / traffic(at.hour),
            2 => 12.0 + 10.0 * random.random::<f64>(),
            _ => 3.0,
        };
        *until = at.second + minutes * 60.0;
    }
    // Moving comes twice in a round: when it opens and when it closes.
    [0, 1, 2, 1][*word]
}

/// The station at Marl is down for six hours.
fn is_silent(at: &Moment) -> bool {
    at.lock == 4 && (3.2..3.45).contains(&(at.second / DAY))
}

/// How dry it is, 0 to 1: a week without rain, which comes and goes over a day.
fn dryness(day: f64) -> f64 {
    let edge = |x: f64| x.clamp(0.0, 1.0);
    edge(day - 5.0) * edge(12.5 - day)
}

/// How busy the canal is by the hour.
fn traffic(hour: f64) -> f64 {
    0.08 + 0.92 * (TAU * (hour - 6.0) / 24.0).sin().max(0.0)
}

/// Between -1 and 1, most often near 0.
fn noise(random: &mut ChaCha8Rng) -> f64 {
    random.random::<f64>() + random.random::<f64>() - 1.0
}

fn decimals(value: f64, count: i32) -> f64 {
    let scale = 10f64.powi(count);
    (value * scale).round() / scale
}
